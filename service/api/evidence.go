package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/client"
)

// evidenceRoutes serve the bag of a case as a whole: it is given back as it came in, or removed.
func (a *API) evidenceRoutes(api huma.API) {
	huma.Register(api, forRole(client.Work, huma.Operation{
		OperationID: "get-bag",
		Method:      http.MethodGet,
		Path:        "/api/v1/cases/{number}/bag",
		Summary:     "The bag of a case, as it was handed in",
		Description: "Evidence is of people's machines: who takes a bag is noted in the audit. An answer that is cut off " +
			"ends with a connection that is cut, never as if it were whole.",
		Tags:   []string{"cases"},
		Errors: []int{http.StatusNotFound, http.StatusGone},
		Responses: map[string]*huma.Response{"200": {Description: "The packed bag", Content: map[string]*huma.MediaType{
			"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}},
		}}},
	}), a.giveBag)
	huma.Register(api, forRole(client.Administer, huma.Operation{
		OperationID: "remove-evidence",
		Method:      http.MethodDelete,
		Path:        "/api/v1/cases/{number}/bag",
		Summary:     "Remove the bag of a case for good; its docket stays",
		Tags:        []string{"cases"},
		Errors:      []int{http.StatusNotFound, http.StatusConflict, http.StatusGone},
	}),
		func(ctx context.Context, in *casePath) (*struct{ Body client.Case }, error) {
			if _, err := a.mine(ctx, "remove evidence", in.Number); err != nil {
				return nil, err
			}
			blob, err := a.Store.RemoveBag(ctx, in.Number)
			if err != nil {
				return nil, a.caseProblem("remove evidence", fmt.Sprintf("case %d", in.Number), err)
			}
			if err := a.Bags.Drop(context.WithoutCancel(ctx), blob); err != nil { // a later round finds it
				a.Log.Warn("drop a bag", "key", blob, "error", err)
			}
			c, err := a.mine(ctx, "remove evidence", in.Number)
			if err != nil {
				return nil, err
			}
			a.note(ctx, client.AuditDone, "remove-evidence", fmt.Sprintf("case %d, %s", c.Number, c.Machine), c.Bag)
			return &struct{ Body client.Case }{*c}, nil
		})
}

// giveBag sends the bag of a case.
func (a *API) giveBag(ctx context.Context, in *casePath) (*huma.StreamResponse, error) {
	c, err := a.mine(ctx, "get a bag", in.Number)
	if err != nil {
		return nil, err
	}
	blob, err := a.Store.BagOf(ctx, in.Number)
	if err != nil {
		return nil, a.caseProblem("get a bag", fmt.Sprintf("case %d", in.Number), err)
	}
	body, _, err := a.Bags.Open(ctx, blob)
	if err != nil {
		return nil, a.internal("get a bag", err)
	}
	a.note(ctx, client.AuditDone, "get-bag", fmt.Sprintf("case %d, %s", c.Number, c.Machine), c.Bag)
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		err := send(ctx, body)
		if err = errors.Join(err, body.Close()); err != nil {
			a.Log.Warn("send a bag", "case", in.Number, "error", err)
			panic(http.ErrAbortHandler) // what was sent must not look whole
		}
	}}, nil
}

// send copies a file to whoever asked, who may read at any rate that gets on.
func send(ctx huma.Context, from io.Reader) error {
	ctx.SetHeader("Content-Type", "application/octet-stream")
	ctx.SetHeader("Cache-Control", "no-store")
	out := ctx.BodyWriter()
	if rw, ok := out.(http.ResponseWriter); ok {
		control := http.NewResponseController(rw)
		out = writerFunc(func(p []byte) (int, error) {
			_ = control.SetWriteDeadline(time.Now().Add(tellTime))
			return rw.Write(p)
		})
	}
	_, err := io.Copy(out, from)
	return err
}

type writerFunc func([]byte) (int, error)

func (f writerFunc) Write(p []byte) (int, error) { return f(p) }
