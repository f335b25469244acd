package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/core/codes"
)

// CodeReading is one way to take a code.
type CodeReading struct {
	Value    string          `json:"value" doc:"The number, in the base in which it was taken"`
	Readings []codes.Reading `json:"readings"`
}

func (a *API) codeRoutes(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "read-code", Method: http.MethodGet, Path: "/api/v1/codes/{code}", Summary: "What a code means", Tags: []string{"codes"}, Errors: []int{http.StatusUnprocessableEntity}},
		func(_ context.Context, in *struct {
			Code string `path:"code" maxLength:"64"`
		}) (*struct{ Body []CodeReading }, error) {
			values, err := codes.Parse(in.Code)
			if err != nil {
				return nil, problem(http.StatusUnprocessableEntity, "not-a-code", err.Error())
			}
			list := []CodeReading{}
			for _, v := range values {
				list = append(list, CodeReading{Value: v.String(), Readings: append([]codes.Reading{}, a.Knowledge.Codes.Decode(v)...)})
			}
			return &struct{ Body []CodeReading }{list}, nil
		})
}
