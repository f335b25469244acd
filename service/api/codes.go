package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/core/codes"
)

func (a *API) codeRoutes(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "explain-code",
		Method:      http.MethodGet,
		Path:        "/api/v1/codes",
		Summary:     "What a code, or a sentence with codes in it, means",
		Tags:        []string{"codes"},
		Errors:      []int{http.StatusUnprocessableEntity},
	},
		func(_ context.Context, in *struct {
			Text string `query:"text" required:"true" minLength:"1" maxLength:"2000" doc:"A code in any form, or a sentence"`
		}) (*struct{ Body codes.Explanation }, error) {
			return &struct{ Body codes.Explanation }{a.Knowledge().Codes.Explain(in.Text)}, nil
		})
}
