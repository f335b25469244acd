package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/client"
	"diorthos/service/records"
)

type machineList struct {
	Name  string `query:"name" maxLength:"200" doc:"Part of the machine's name or of its site"`
	State string `query:"state" enum:"received,reading,open,climbing,unreadable,healthy,closed" doc:"Latest case"`
	After string `query:"after" maxLength:"200" doc:"Only machines behind this name: the \"next\" of the page before"`
	Limit int    `query:"limit" minimum:"1" maximum:"200" default:"50" doc:"Machines on a page"`
}

type machinePath struct {
	Name string `path:"name" minLength:"1" maxLength:"200" doc:"Name of the machine"`
}

func (a *API) machineRoutes(api huma.API) {
	huma.Register(api, huma.Operation{
		OperationID: "list-machines",
		Method:      http.MethodGet,
		Path:        "/api/v1/machines",
		Summary:     "List machines by their names, with their latest case",
		Tags:        []string{"machines"},
	},
		func(ctx context.Context, in *machineList) (*struct{ Body client.MachinePage }, error) {
			page, err := a.Store.Machines(ctx, identity(ctx).Sites, client.MachineQuery{
				Name:  in.Name,
				State: client.CaseState(in.State),
				After: in.After,
				Limit: in.Limit,
			})
			if err != nil {
				return nil, a.internal("list machines", err)
			}
			return &struct{ Body client.MachinePage }{*page}, nil
		})
	huma.Register(api, huma.Operation{
		OperationID: "get-machine",
		Method:      http.MethodGet,
		Path:        "/api/v1/machines/{name}",
		Summary:     "A machine with its facts as gathered last, and its cases",
		Tags:        []string{"machines"},
		Errors:      []int{http.StatusNotFound},
	},
		func(ctx context.Context, in *machinePath) (*struct{ Body client.MachineDetail }, error) {
			d, err := a.Store.MachineDetail(ctx, in.Name)
			if err == nil && !identity(ctx).At(d.Site) {
				err = records.ErrNotFound
			}
			if err != nil {
				return nil, a.caseProblem("get a machine", fmt.Sprintf("machine %q", in.Name), err)
			}
			return &struct{ Body client.MachineDetail }{*d}, nil
		})
}
