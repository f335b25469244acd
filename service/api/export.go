package api

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/client"
	"diorthos/service/records"
)

// exportRoutes give out everything that is kept of one person, or of one machine.
func (a *API) exportRoutes(api huma.API) {
	operation := func(id, path, summary, what string) huma.Operation {
		return forRole(client.Administer, huma.Operation{
			OperationID: id, Method: http.MethodGet, Path: path, Summary: summary, Tags: []string{"people"},
			Description: what + " A packed tar archive: for each table lines of JSON, a row each. Hashes of secrets are left " +
				"out. An answer that is cut off ends with a connection that is cut. It is noted in the audit.",
			Errors: []int{http.StatusNotFound},
			Responses: map[string]*huma.Response{"200": {Description: "The archive", Content: map[string]*huma.MediaType{
				"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}},
			}}},
		})
	}
	huma.Register(api, operation("export-person", "/api/v1/people/{name}/export", "Everything that is kept of a person",
		"Who they are, how they signed in, and every record in which they are named, the audit's among them."),
		func(ctx context.Context, in *struct {
			Name string `path:"name" maxLength:"200"`
		}) (*huma.StreamResponse, error) {
			return a.export(ctx, "person", in.Name, a.Store.AboutPerson, nil)
		})
	huma.Register(
		api,
		operation("export-machine", "/api/v1/machines/{name}/export", "Everything that is kept of a machine",
			"Its facts, its cases with their dockets, who worked on it, and its bags as they were handed in."),
		func(ctx context.Context, in *struct {
			Name string `path:"name" maxLength:"200"`
		}) (*huma.StreamResponse, error) {
			site, err := a.Store.SiteOf(ctx, in.Name)
			if err == nil && !identity(ctx).At(site) {
				err = records.ErrNotFound
			}
			if err != nil {
				return nil, a.exportProblem("machine", in.Name, err)
			}
			return a.export(ctx, "machine", in.Name, a.Store.AboutMachine, a.machineBags)
		},
	)
}

func (a *API) exportProblem(what, name string, err error) error {
	if errors.Is(err, records.ErrNotFound) {
		return problem(http.StatusNotFound, "not-found", fmt.Sprintf("there is no %s called %q", what, name))
	}
	return a.internal("export", err)
}

// export packs the rows that name something, and what else there is. The first rows are fetched before the answer
// begins, so that a name that nobody has is said.
func (a *API) export(
	ctx context.Context, what, name string,
	rows func(context.Context, string, func(string, []byte) error) error,
	more func(context.Context, string, *tar.Writer) error,
) (*huma.StreamResponse, error) {
	known := errors.New("known")
	err := rows(ctx, name, func(string, []byte) error { return known })
	if !errors.Is(err, known) {
		return nil, a.exportProblem(what, name, err)
	}
	a.note(ctx, client.AuditDone, "export-"+what, name, "")
	return &huma.StreamResponse{Body: func(h huma.Context) {
		from, to := io.Pipe()
		go func() { to.CloseWithError(pack(ctx, name, to, rows, more)) }()
		err := send(h, from)
		_ = from.CloseWithError(io.ErrClosedPipe) // who asked has gone: the packing ends too
		if err != nil {
			a.Log.Warn("send an export", what, name, "error", err)
			panic(http.ErrAbortHandler) // what was sent must not look whole
		}
	}}, nil
}

// mostLines is how much of a table's lines one entry holds: more goes into a further one.
const mostLines = 4 << 20

// pack writes the archive.
func pack(
	ctx context.Context, name string, to io.Writer,
	rows func(context.Context, string, func(string, []byte) error) error,
	more func(context.Context, string, *tar.Writer) error,
) error {
	zipped := gzip.NewWriter(to)
	out := tar.NewWriter(zipped)
	var lines bytes.Buffer
	of, part := "", 0
	flush := func() error {
		if lines.Len() == 0 {
			return nil
		}
		file := of + ".jsonl"
		if part++; part > 1 {
			file = fmt.Sprintf("%s-%d.jsonl", of, part)
		}
		err := entry(out, file, int64(lines.Len()), &lines)
		lines.Reset()
		return err
	}
	err := rows(ctx, name, func(table string, row []byte) error {
		if table != of || lines.Len() > mostLines {
			if err := flush(); err != nil {
				return err
			}
		}
		if table != of {
			of, part = table, 0
		}
		lines.Write(row)
		return lines.WriteByte('\n')
	})
	if err == nil {
		err = flush()
	}
	if err == nil && more != nil {
		err = more(ctx, name, out)
	}
	if err != nil {
		return err
	}
	return errors.Join(out.Close(), zipped.Close())
}

func entry(out *tar.Writer, name string, size int64, from io.Reader) error {
	if err := out.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: size, ModTime: time.Now()}); err != nil {
		return err
	}
	_, err := io.Copy(out, from)
	return err
}

// machineBags adds the bags of a machine's cases.
func (a *API) machineBags(ctx context.Context, name string, out *tar.Writer) error {
	list, err := a.Store.BagsOfMachine(ctx, name)
	if err != nil {
		return err
	}
	for _, b := range list {
		body, _, err := a.Bags.Open(ctx, b.Blob)
		if err != nil {
			return fmt.Errorf("the bag of case %d: %w", b.Number, err)
		}
		err = entry(out, fmt.Sprintf("bags/case-%d.bag.tar.gz", b.Number), b.Size, body)
		if err = errors.Join(err, body.Close()); err != nil {
			return fmt.Errorf("the bag of case %d: %w", b.Number, err)
		}
	}
	return nil
}
