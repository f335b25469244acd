package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/core/bag"
	"diorthos/core/reading"
)

// LogLines is a piece of a log out of a case's bag.
type LogLines struct {
	File  string               `json:"file"`
	Lines []reading.WindowLine `json:"lines"`
}

var errFound = errors.New("found")

func (a *API) lineRoutes(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "get-lines",
		Method:      http.MethodGet,
		Path:        "/api/v1/cases/{number}/lines",
		Summary:     "Lines of a log of a case, around a place",
		Tags:        []string{"cases"},
		Errors:      []int{http.StatusNotFound, http.StatusGone},
	},
		func(ctx context.Context, in *struct {
			Number int64  `path:"number" minimum:"1" doc:"Number of the case"`
			File   string `query:"file" required:"true" maxLength:"1024" doc:"Name of the log, as the docket names it"`
			Around int    `query:"around" minimum:"1" required:"true" doc:"The line in the middle, from 1"`
			Span   int    `query:"span" minimum:"0" maximum:"500" default:"15" doc:"How many lines before it and after it"`
		}) (*struct{ Body LogLines }, error) {
			if _, err := a.mine(ctx, "get lines", in.Number); err != nil {
				return nil, err
			}
			blob, err := a.Store.BagOf(ctx, in.Number)
			if err != nil {
				return nil, a.caseProblem("get lines", fmt.Sprintf("case %d", in.Number), err)
			}
			lines, err := a.lines(ctx, blob, in.File, max(1, in.Around-in.Span), in.Around+in.Span)
			if errors.Is(err, errNoFile) {
				return nil, problem(http.StatusNotFound, "unknown", fmt.Sprintf("case %d has no log %q", in.Number, in.File))
			}
			if err != nil {
				return nil, a.internal("get lines", err)
			}
			return &struct{ Body LogLines }{LogLines{File: in.File, Lines: append([]reading.WindowLine{}, lines...)}}, nil
		})
}

var errNoFile = errors.New("no such file in the bag")

// lines reads a bag as far as the log that is asked for.
func (a *API) lines(ctx context.Context, blob, file string, from, to int) ([]reading.WindowLine, error) {
	body, _, err := a.Bags.Open(ctx, blob)
	if err != nil {
		return nil, err
	}
	defer func() { _ = body.Close() }()
	var lines []reading.WindowLine
	_, err = bag.Read(ctx, body, a.Limits, func(name string, size int64, r io.Reader) error {
		if name != file {
			return nil
		}
		src := reading.Source{Name: name, Size: size, Open: func() (io.ReadCloser, error) { return io.NopCloser(r), nil }}
		var err error
		if lines, err = reading.Window(ctx, src, from, to); err != nil {
			return err
		}
		return errFound
	})
	switch {
	case errors.Is(err, errFound):
		return lines, nil
	case err != nil:
		return nil, err
	}
	return nil, errNoFile
}
