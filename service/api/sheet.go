package api

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/core/docket"
)

type sheetAnswer struct {
	ContentType string `header:"Content-Type"`
	Policy      string `header:"Content-Security-Policy"` // the page holds its own styles
	Body        []byte
}

func (a *API) sheetRoutes(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "get-sheet",
		Method:      http.MethodGet,
		Path:        "/api/v1/cases/{number}/sheet",
		Summary:     "The sheet of a case, as a page to print",
		Tags:        []string{"cases"},
		Errors:      []int{http.StatusNotFound},
	},
		func(ctx context.Context, in *struct {
			Number int64 `path:"number" minimum:"1" doc:"Number of the case"`
		}) (*sheetAnswer, error) {
			if _, err := a.mine(ctx, "get the sheet", in.Number); err != nil {
				return nil, err
			}
			d, err := a.Store.CaseDetail(ctx, in.Number)
			if err != nil {
				return nil, a.caseProblem("get the sheet", fmt.Sprintf("case %d", in.Number), err)
			}
			if d.Docket == nil {
				return nil, problem(http.StatusNotFound, "unknown", fmt.Sprintf("case %d has not been read yet", in.Number))
			}
			var page bytes.Buffer
			if err := (docket.Sheet{Case: in.Number, Docket: d.Docket, Printed: time.Now()}).HTML(&page); err != nil {
				return nil, a.internal("get the sheet", err)
			}
			return &sheetAnswer{
				"text/html; charset=utf-8", "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'",
				page.Bytes(),
			}, nil
		})
}
