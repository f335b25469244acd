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
	"diorthos/core/bag"
	"diorthos/service/lifecycle"
	"diorthos/service/records"
	"diorthos/service/traces"
)

// bagRequest takes the body as a stream: a bag may be larger than memory.
type bagRequest struct {
	body  io.Reader
	until func(time.Time) error // sets until when the body is waited for
}

// Resolve keeps the request's body for the handler.
func (b *bagRequest) Resolve(ctx huma.Context) []error {
	b.until = ctx.SetReadDeadline
	b.body = newPaced(ctx.BodyReader(), b.until)
	if w, ok := ctx.BodyWriter().(http.ResponseWriter); ok { // the answer may come hours from now
		_ = http.NewResponseController(w).SetWriteDeadline(time.Time{})
	}
	return nil
}

// drain reads what is left of a body that was refused: whoever is still
// sending does not look for the answer before that.
func (b *bagRequest) drain() {
	_ = b.until(time.Now().Add(20 * time.Second))
	_, _ = io.Copy(io.Discard, io.LimitReader(b.body, 2<<30))
}

type acceptedAnswer struct {
	Status int
	Body   client.Accepted
}

type casePath struct {
	Number int64 `path:"number" minimum:"1" doc:"Number of the case"`
}

type caseList struct {
	Machine string `query:"machine" maxLength:"200" doc:"Part of the machine's name"`
	State   string `query:"state" enum:"received,reading,open,climbing,unreadable,healthy,closed" doc:"Only those in it"`
	Before  int64  `query:"before" minimum:"0" doc:"Only cases with a lower number: the \"next\" of the page before"`
	Limit   int    `query:"limit" minimum:"1" maximum:"200" default:"50" doc:"Cases on a page"`
}

func (a *API) caseRoutes(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID:   "submit-bag",
		Method:        http.MethodPost,
		Path:          "/api/v1/bags",
		Tags:          []string{"cases"},
		DefaultStatus: http.StatusCreated,
		Summary:       "Hand in a bag",
		Description: "The body is the packed bag itself. It is answered once the bag is verified, on disk and in the " +
			"queue. The same evidence handed in again gives the same case, with status 200.",
		Errors: []int{
			http.StatusUnprocessableEntity, http.StatusRequestEntityTooLarge, http.StatusInsufficientStorage,
			http.StatusRequestTimeout, http.StatusServiceUnavailable,
		},
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
			"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}},
		}},
		SkipValidateBody: true,
	}, a.submit)
	huma.Register(api, huma.Operation{
		OperationID: "list-cases",
		Method:      http.MethodGet,
		Path:        "/api/v1/cases",
		Summary:     "List cases, the newest first",
		Tags:        []string{"cases"},
	},
		func(ctx context.Context, in *caseList) (*struct{ Body client.CasePage }, error) {
			page, err := a.Store.Cases(ctx, identity(ctx).Sites, client.CaseQuery{
				Machine: in.Machine,
				State:   client.CaseState(in.State),
				Before:  in.Before,
				Limit:   in.Limit,
			})
			if err != nil {
				return nil, a.internal("list cases", err)
			}
			return &struct{ Body client.CasePage }{*page}, nil
		})
	huma.Register(api, huma.Operation{
		OperationID: "get-case",
		Method:      http.MethodGet,
		Path:        "/api/v1/cases/{number}",
		Summary:     "A case with its docket and climbs",
		Tags:        []string{"cases"},
		Errors:      []int{http.StatusNotFound},
	},
		func(ctx context.Context, in *casePath) (*struct{ Body client.CaseDetail }, error) {
			if _, err := a.mine(ctx, "get a case", in.Number); err != nil {
				return nil, err
			}
			d, err := a.Store.CaseDetail(ctx, in.Number)
			if err == nil {
				d.Cohort, err = a.Store.CohortOf(ctx, in.Number)
			}
			if err != nil {
				return nil, a.caseProblem("get a case", fmt.Sprintf("case %d", in.Number), err)
			}
			return &struct{ Body client.CaseDetail }{*d}, nil
		})
	huma.Register(api, huma.Operation{
		OperationID: "change-case",
		Method:      http.MethodPatch,
		Path:        "/api/v1/cases/{number}",
		Summary:     "Close a case, or open a closed one again",
		Description: "A case is closed by itself when what had failed succeeds, or the machine starts again, and " +
			"opened again when the same cause comes back.",
		Tags:   []string{"cases"},
		Errors: []int{http.StatusNotFound, http.StatusConflict},
	},
		func(ctx context.Context, in *struct {
			Number int64 `path:"number" minimum:"1" doc:"Number of the case"`
			Body   client.CaseChange
		}) (*struct{ Body client.Case }, error) {
			if _, err := a.mine(ctx, "change a case", in.Number); err != nil {
				return nil, err
			}
			change := a.Store.CloseCase
			if in.Body.State == client.Open {
				change = a.Store.ReopenCase
			}
			err := change(ctx, in.Number, person(ctx), in.Body.Note)
			if errors.Is(err, lifecycle.ErrNotNow) {
				return nil, problem(http.StatusConflict, "not-now", err.Error())
			}
			if err != nil {
				return nil, a.caseProblem("change a case", fmt.Sprintf("case %d", in.Number), err)
			}
			c, err := a.Store.Case(ctx, in.Number)
			if err != nil {
				return nil, a.internal("change a case", err)
			}
			a.note(
				ctx,
				client.AuditDone,
				"change-case",
				fmt.Sprintf("case %d, %s", c.Number, c.Machine),
				string(c.State)+" "+in.Body.Note,
			)
			return &struct{ Body client.Case }{*c}, nil
		})
	huma.Register(api, huma.Operation{
		OperationID: "read-case-again",
		Method:      http.MethodPost,
		Path:        "/api/v1/cases/{number}/read",
		Summary:     "Read a case again: one that could not be read, or that newer knowledge may judge otherwise",
		Tags:        []string{"cases"},
		Errors:      []int{http.StatusNotFound, http.StatusConflict, http.StatusGone},
	},
		func(ctx context.Context, in *casePath) (*struct{ Body client.Case }, error) {
			if _, err := a.mine(ctx, "read a case again", in.Number); err != nil {
				return nil, err
			}
			err := a.Store.ReadAgain(ctx, in.Number, a.Enqueue(ctx))
			if err != nil {
				return nil, a.caseProblem("read a case again", fmt.Sprintf("case %d", in.Number), err)
			}
			c, err := a.mine(ctx, "read a case again", in.Number)
			if err != nil {
				return nil, err
			}
			a.note(ctx, client.AuditDone, "read-case-again", fmt.Sprintf("case %d, %s", c.Number, c.Machine), "")
			return &struct{ Body client.Case }{*c}, nil
		})
	a.evidenceRoutes(api)
	a.liveRoutes(api)
}

// mine is a case that whoever asks may see. One of another site is as one that is not there.
func (a *API) mine(ctx context.Context, doing string, number int64) (*client.Case, error) {
	c, err := a.Store.Case(ctx, number)
	if err == nil && !identity(ctx).For(c.Machine, c.Site) {
		err = records.ErrNotFound
	}
	if err != nil {
		return nil, a.caseProblem(doing, fmt.Sprintf("case %d", number), err)
	}
	return c, nil
}

// recordTimeout bounds the recording of a bag that lies on disk.
const recordTimeout = time.Minute

// record records a bag. When the database does not say whether it did, it is asked
// again.
func (a *API) record(ctx context.Context, b records.Bag) (accepted records.Accepted, err error) {
	whole := func(blob string, size int64) bool { return a.Bags.Holds(ctx, blob, size) }
	for range 5 {
		accepted, err = a.Store.Accept(ctx, b, whole, a.Enqueue(ctx))
		if !errors.Is(err, records.ErrCommitUnknown) {
			return accepted, err
		}
		select {
		case <-ctx.Done():
			return accepted, err
		case <-time.After(time.Second):
		}
	}
	return accepted, err
}

// mayHandIn refuses a bag of a machine at a site that is not one's own.
func (a *API) mayHandIn(ctx context.Context, m bag.Machine) error {
	i := identity(ctx)
	if i.Machine != "" && i.Machine != m.Name {
		a.note(ctx, client.AuditRefused, "submit-bag", m.Name, "by "+i.Name)
		return problem(http.StatusForbidden, "other-machine", fmt.Sprintf(
			"this is a bag of %s, and the agent is that of %s: a copied disk has to enrol anew", m.Name, i.Machine,
		))
	}
	if len(i.Sites) == 0 {
		return nil
	}
	site, err := a.siteOf(ctx, m)
	if err != nil {
		return a.internal("take a bag", err)
	}
	if i.At(site) {
		return nil
	}
	a.note(ctx, client.AuditRefused, "submit-bag", m.Name, "site "+site)
	return problem(http.StatusForbidden, "other-site", fmt.Sprintf(
		"%s is of the site %q, and you may hand in for %v only", m.Name, site, i.Sites,
	))
}

// siteOf is the site of a machine: as it is known, or else as its bag says.
func (a *API) siteOf(ctx context.Context, m bag.Machine) (string, error) {
	known, err := a.Store.SiteOf(ctx, m.Name)
	if errors.Is(err, records.ErrNotFound) || err == nil && known == "" {
		return m.Site, nil
	}
	return known, err
}

func (a *API) submit(ctx context.Context, in *bagRequest) (*acceptedAnswer, error) {
	done, err := a.turn(ctx)
	if err != nil {
		return nil, err
	}
	defer done()
	answer, err := a.take(ctx, "submit-bag", in.body)
	var p huma.StatusError
	if errors.As(err, &p) && p.GetStatus() != http.StatusRequestTimeout {
		in.drain()
	}
	return answer, err
}

// take puts a bag where bags lie, and records it.
func (a *API) take(ctx context.Context, doing string, body io.Reader) (*acceptedAnswer, error) {
	taking, done := traces.Step(ctx, "take the bag and verify it")
	key, info, size, err := a.Bags.Take(taking, body, a.Limits)
	if done(err); err != nil {
		outcome, p := a.refused(err)
		a.metrics.bags.WithLabelValues(outcome).Inc()
		return nil, p
	}
	if err := a.mayHandIn(ctx, info.Facts.Machine); err != nil {
		_ = a.Bags.Drop(context.WithoutCancel(ctx), key) // nothing is recorded of it: a sweep would find it
		return nil, err
	}
	// What lies on disk is recorded, also when whoever sent it does not wait for it.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), recordTimeout)
	defer cancel()
	recording, done := traces.Step(ctx, "record the case")
	accepted, err := a.record(recording, records.Bag{
		Digest:  info.Digest,
		Blob:    key,
		Size:    size,
		Machine: info.Facts.Machine,
		Call:    info.Facts.Call,
		By:      person(ctx),
	})
	done(err)
	if accepted.UnusedBlob != "" {
		if err := a.Bags.Drop(context.WithoutCancel(ctx), accepted.UnusedBlob); err != nil {
			a.Log.Warn("drop a bag", "key", accepted.UnusedBlob, "error", err)
		}
	}
	if err != nil {
		return nil, a.internal("record a bag", err)
	}
	c, err := a.Store.Case(ctx, accepted.Number)
	if err != nil {
		return nil, a.internal("record a bag", err)
	}
	answer := &acceptedAnswer{Status: http.StatusCreated, Body: client.Accepted{
		Case: *c, Again: accepted.Known, Joined: accepted.Joined,
	}}
	if accepted.Known {
		answer.Status = http.StatusOK
	}
	a.note(
		ctx,
		client.AuditDone,
		doing,
		fmt.Sprintf("case %d, %s", accepted.Number, info.Facts.Machine.Name),
		info.Digest,
	)
	a.metrics.bags.WithLabelValues(map[bool]string{true: "again", false: "accepted"}[accepted.Known]).Inc()
	a.Log.Info(
		"bag accepted", "case", accepted.Number, "machine", info.Facts.Machine.Name, "bytes", size, "again",
		accepted.Known, "by", person(ctx),
	)
	return answer, nil
}
