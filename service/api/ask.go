package api

import (
	"context"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/core/ask"
)

type askRequest struct {
	Text   string   `query:"text" required:"true" minLength:"1" maxLength:"8000" doc:"Words or a code from a screen"`
	When   string   `query:"when" enum:"start,attempt" doc:"When it is shown"`
	Family string   `query:"family" maxLength:"100" doc:"Of the system, if it is known"`
	Answer []string `query:"answer,explode" maxItems:"50" doc:"Answers to checks, each as CHECK=N, N from 1"`
}

func (a *API) askRoutes(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "ask",
		Method:      http.MethodGet,
		Path:        "/api/v1/ask",
		Summary:     "What words or a code from a screen point to",
		Description: "Which message is meant and who shows it, the causes, what to look at next, and the ladder. " +
			"Answers to checks rank anew.",
		Tags:   []string{"ask"},
		Errors: []int{http.StatusUnprocessableEntity},
	},
		func(_ context.Context, in *askRequest) (*struct{ Body ask.Answer }, error) {
			q := ask.Question{Text: in.Text, When: in.When, Family: in.Family, Answers: map[string]int{}}
			for _, text := range in.Answer {
				check, number, _ := strings.Cut(text, "=")
				n, err := strconv.Atoi(number)
				if err != nil {
					return nil, problem(http.StatusUnprocessableEntity, "validation", "answer: want CHECK=N")
				}
				q.Answers[check] = n
			}
			found, err := ask.About(q, a.Knowledge())
			if err != nil {
				return nil, problem(http.StatusUnprocessableEntity, "validation", err.Error())
			}
			return &struct{ Body ask.Answer }{*found}, nil
		})
}
