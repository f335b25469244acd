package api

import (
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"syscall"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5/middleware"

	"diorthos/core/bag"
	"diorthos/service/lifecycle"
	"diorthos/service/records"
)

// problem makes an RFC 9457 problem. kind becomes its type, by which a
// program can tell it from others; docs/api.md lists the kinds.
func problem(status int, kind, detail string) *huma.ErrorModel {
	return &huma.ErrorModel{
		Type:   "urn:diorthos:problem:" + kind,
		Title:  http.StatusText(status),
		Status: status,
		Detail: detail,
	}
}

// errNotPlain is what is wrong with a text that no database keeps.
var errNotPlain = errors.New("a text holds a NUL, U+0000, or is no UTF-8")

// A body that cannot be kept is read well, and refused as other values that a field cannot have. What is wrong with a
// body is told with a status by this function alone.
func init() {
	made := huma.NewErrorWithContext
	huma.NewErrorWithContext = func(ctx huma.Context, status int, msg string, errs ...error) huma.StatusError {
		for _, err := range errs {
			if d := (*huma.ErrorDetail)(nil); errors.As(err, &d) && d.Message == errNotPlain.Error() {
				return problem(http.StatusUnprocessableEntity, "not-plain", errNotPlain.Error())
			}
		}
		return made(ctx, status, msg, errs...)
	}
}

// numbered says in a problem of which request it tells: the log has lines with the same number.
func numbered(ctx huma.Context, p *huma.ErrorModel) {
	if id := middleware.GetReqID(ctx.Context()); id != "" && p.Instance == "" {
		p.Instance = "urn:diorthos:request:" + id
	}
}

// answerProblem answers where no operation of the API does.
func answerProblem(w http.ResponseWriter, r *http.Request, status int, kind, detail string) {
	p := problem(status, kind, detail)
	if id := middleware.GetReqID(r.Context()); id != "" {
		p.Instance = "urn:diorthos:request:" + id
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(p)
}

func writeProblem(_ huma.API, ctx huma.Context, p *huma.ErrorModel) {
	numbered(ctx, p)
	ctx.SetHeader("Content-Type", "application/problem+json")
	ctx.SetStatus(p.Status)
	_ = json.NewEncoder(ctx.BodyWriter()).Encode(p)
}

// internal hides from the caller what only the log should say.
func (a *API) internal(doing string, err error) error {
	a.Log.Error(doing, "error", err)
	return problem(http.StatusInternalServerError, "internal", "this is a fault of the service; it is in its log under \""+
		doing+"\"")
}

// bagKinds tells each refusal of a bag its status and kind.
var bagKinds = []struct {
	err    error
	status int
	kind   string
}{
	{bag.ErrNotABag, http.StatusUnprocessableEntity, "not-a-bag"},
	{bag.ErrTruncated, http.StatusUnprocessableEntity, "bag-cut-off"},
	{bag.ErrChecksum, http.StatusUnprocessableEntity, "bag-checksum"},
	{bag.ErrUnsafe, http.StatusUnprocessableEntity, "bag-unsafe-name"},
	{bag.ErrTooLarge, http.StatusRequestEntityTooLarge, "bag-too-large"},
	{bag.ErrFacts, http.StatusUnprocessableEntity, "bag-facts"},
}

// refused turns what went wrong with a bag into a problem.
func (a *API) refused(err error) (outcome string, p error) {
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) || errors.Is(err, syscall.EFBIG) {
		a.Log.Error("take a bag", "error", err)
		return "no-room", problem(
			http.StatusInsufficientStorage, "no-room",
			"the service has no room for this bag; nothing of it was kept; make room and hand it in again",
		)
	}
	if tooSlow(err) {
		return "too-slow", problem(
			http.StatusRequestTimeout, "too-slow",
			"the bag came in too slowly; nothing of it was kept; hand it in again when the connection is better",
		)
	}
	for _, k := range bagKinds {
		if errors.Is(err, k.err) {
			return k.kind, problem(k.status, k.kind, err.Error())
		}
	}
	return "internal", a.internal("take a bag", err)
}

// caseProblem turns the refusals of the records into problems.
func (a *API) caseProblem(doing string, what string, err error) error {
	switch {
	case errors.Is(err, records.ErrNotFound):
		return problem(http.StatusNotFound, "unknown", "there is no "+what+"; see \"diorthos "+listOf(what)+"\"")
	case errors.Is(err, records.ErrRemoved):
		return problem(http.StatusGone, "removed", err.Error()+": the docket stays, its logs cannot be shown or read again; "+
			"handed in once more, the same bag is kept anew")
	case errors.Is(err, lifecycle.ErrNotNow):
		return problem(http.StatusConflict, "not-now", err.Error())
	case errors.Is(err, records.ErrNotOpen):
		return problem(http.StatusConflict, "not-open", what+" has no ladder yet: wait until it has been read")
	case errors.Is(err, records.ErrBusy):
		return problem(http.StatusConflict, "busy", what+" is being climbed right now; wait until that ends")
	case errors.Is(err, records.ErrNotYours):
		return problem(http.StatusForbidden, "not-yours", what+" was begun by somebody else, who alone may report on it")
	case errors.Is(err, records.ErrTooMany):
		return problem(http.StatusConflict, "too-many", what+": "+err.Error()+"; begin another")
	case errors.Is(err, records.ErrEnded):
		return problem(http.StatusConflict, "ended", what+" is over; begin another")
	}
	return a.internal(doing, err)
}

// listOf is the command that lists what a problem is about.
func listOf(what string) string {
	kind, _, _ := strings.Cut(what, " ")
	for begins, list := range map[string]string{
		"roll-out": "waves", "order": "waves", "cohort": "cohorts", "outbreak": "outbreaks", "agent": "agent list",
		"machine": "machines",
	} {
		if kind == begins {
			return list
		}
	}
	return "cases"
}
