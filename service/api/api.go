package api

import (
	"context"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"net/http"
	"net/netip"
	"time"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/jackc/pgx/v5"
	"github.com/prometheus/client_golang/prometheus"
	"go.opentelemetry.io/otel/trace"

	"diorthos/core/bag"
	"diorthos/core/knowledge"
	"diorthos/core/plain"
	"diorthos/service/bags"
	"diorthos/service/records"
	"diorthos/service/signon"
)

// Version is the version of the API.
const Version = "1.0.0"

// Deps are what the API stands on.
type Deps struct {
	Store     *records.Store
	Bags      *bags.Store
	Enqueue   func(context.Context) func(pgx.Tx, int64) error
	Knowledge func() *knowledge.Knowledge // the one that is in force
	Limits    bag.Limits
	Console   fs.FS // the built console
	Log       *slog.Logger
	Metrics   *prometheus.Registry
	Traces    trace.Tracer // told where time goes; nil for nobody
	TLS       bool         // it is served over TLS
	// Forwarders are the addresses of proxies whose word on where a request comes from counts.
	Forwarders []netip.Prefix
	SignOn     *signon.Provider // nil where people sign in with a token alone
}

// An API answers HTTP. Run Listen beside it for live changes.
type API struct {
	Deps
	http.Handler
	live     *live
	desk     *desk
	metrics  *metrics
	throttle *throttle
	taking   chan struct{} // a place for each bag that comes in
	spec     *huma.OpenAPI
}

// New builds the API.
func New(d Deps) *API {
	d.Limits.Parsing = make(chan struct{}, parsings)
	a := &API{
		Deps: d, live: newLive(), desk: newDesk(d.Store), metrics: newMetrics(d.Metrics), throttle: newThrottle(),
		taking: make(chan struct{}, intakes),
	}
	r := chi.NewRouter()
	r.Use(
		plainIDs,
		middleware.RequestID,
		addressed(d.Forwarders),
		arriving,
		a.traced,
		a.metrics.observe,
		a.logged,
		a.recovered,
		a.secured,
		plainAddress,
	)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ok\n")) })
	r.Get("/readyz", a.ready)
	r.Group(func(r chi.Router) {
		r.Use(http.NewCrossOriginProtection().Handler)
		a.routes(humachi.New(r, config()))
	})
	r.NotFound(notThere)
	r.MethodNotAllowed(notSo)
	if d.Console != nil {
		r.NotFound(console(d.Console))
	}
	a.Handler = r
	return a
}

// Spec returns the OpenAPI 3.1 document.
func (a *API) Spec() *huma.OpenAPI { return a.spec }

// Listen passes changes on to everybody who watches, until ctx ends.
func (a *API) Listen(ctx context.Context) {
	a.Store.Listen(ctx, records.Ears{
		Case: a.live.changed, Agent: a.desk.call, Lost: func() { a.live.allChanged(); a.desk.call("") },
	})
}

func config() huma.Config {
	huma.DefaultArrayNullable = false // our lists are empty, never null
	c := huma.DefaultConfig("Diorthos", Version)
	c.Transformers = append(c.Transformers, func(ctx huma.Context, _ string, v any) (any, error) {
		if p, ok := v.(*huma.ErrorModel); ok {
			numbered(ctx, p)
		}
		return v, nil
	})
	c.Formats = maps.Clone(c.Formats)
	for name, format := range c.Formats {
		decode := format.Unmarshal
		format.Unmarshal = func(raw []byte, into any) error {
			if !utf8.Valid(raw) || plain.NULIn(raw) >= 0 {
				return errNotPlain
			}
			return decode(raw, into)
		}
		c.Formats[name] = format
	}
	c.Info.Description = "Why an install, upgrade or update failed, and how it is put right. Sign in with " +
		"\"Authorization: Bearer TOKEN\"."
	c.OpenAPIPath, c.DocsPath, c.SchemasPath = "/api/v1/openapi", "", "/api/v1/schemas"
	c.CreateHooks = nil // no $schema field in answers
	c.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":  {Type: "http", Scheme: "bearer"},
		"cookie": {Type: "apiKey", In: "cookie", Name: cookieName},
	}
	return c
}

func (a *API) routes(api huma.API) {
	a.spec = api.OpenAPI()
	a.sessionRoutes(api)
	a.signOnRoutes(api)
	a.deviceRoutes(api)
	a.enrolRoutes(api)
	a.knockRoutes(api)
	signedIn := huma.NewGroup(api)
	signedIn.UseMiddleware(a.signIn(api))
	signedIn.UseSimpleModifier(func(o *huma.Operation) {
		o.Security = []map[string][]string{{"token": {}}, {"cookie": {}}}
		o.Errors = append(o.Errors, http.StatusUnauthorized, http.StatusForbidden, http.StatusTooManyRequests)
	})
	a.caseRoutes(signedIn)
	a.lineRoutes(signedIn)
	a.sheetRoutes(signedIn)
	a.climbRoutes(signedIn)
	a.approvalRoutes(signedIn)
	a.orderRoutes(signedIn)
	a.machineRoutes(signedIn)
	a.codeRoutes(signedIn)
	a.askRoutes(signedIn)
	a.callRoutes(signedIn)
	a.fleetRoutes(signedIn)
	a.agentRoutes(signedIn)
	a.admissionRoutes(signedIn)
	a.peopleRoutes(signedIn)
	a.exportRoutes(signedIn)
	declareEnums(api.OpenAPI())
}

// ready says whether work can be done.
func (a *API) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := a.Store.Ping(ctx); err != nil {
		http.Error(w, "database does not answer", http.StatusServiceUnavailable)
		return
	}
	_, _ = fmt.Fprintf(w, "ready, knowledge %s\n", a.Knowledge().Version)
}
