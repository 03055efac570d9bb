// Package api serves everything over HTTP: the JSON calls, the event stream, Git's smart HTTP and the console.
//
// It turns requests into calls of the service and answers into JSON; it decides nothing. The JSON calls describe
// themselves in OpenAPI 3.1 at /api/v1/openapi.json. Errors are problem details (RFC 9457).
package api

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"

	"tavrin/console"
	"tavrin/internal/accounts"
	"tavrin/internal/bounds"
	"tavrin/internal/records"
	"tavrin/internal/service"
	"tavrin/wire"
)

// Version is the version of the program and of the API's description.
const Version = "0.1.0"

// MaxBody is the largest body of a JSON call, in bytes.
const MaxBody = 3 << 20

// Options is what a handler is made from.
type Options struct {
	Service *service.Service // may be nil when only the description is wanted
	Log     *slog.Logger
	// Address is where the service is reached, as service.Options has it.
	Address string
	// Secure says that browsers reach the service over TLS, so that cookies are sent over nothing else.
	Secure bool
	// Bounds say how many requests are taken; the zero value stands for the defaults.
	Bounds bounds.Bounds
	// BehindProxy says that requests come through a proxy, which names the address that they come from.
	BehindProxy bool
}

// server is what the handlers share.
type server struct {
	Options
	huma  huma.API
	gates *gates
}

// New makes the handler of everything that the service answers over HTTP.
func New(o Options) http.Handler {
	handler, _ := build(o)
	return handler
}

// Description returns the OpenAPI 3.1 description of the JSON calls, in JSON.
func Description() ([]byte, error) {
	_, s := build(Options{Log: slog.New(slog.DiscardHandler)})
	return s.huma.OpenAPI().MarshalJSON()
}

func build(o Options) (http.Handler, *server) {
	if o.Bounds == (bounds.Bounds{}) {
		o.Bounds = bounds.Default()
	}
	s := &server{Options: o, gates: newGates(o.Bounds)}
	r := chi.NewRouter()
	r.Use(s.logged, watched, s.safe, s.identified, s.bounded)
	r.NotFound(s.notFound)
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Allow", strings.Join(allowed(r), ", "))
		writeProblem(w, &Problem{Status: http.StatusMethodNotAllowed, Title: "Method Not Allowed", Detail: r.Method +
			" means nothing at " + r.URL.Path + "; " + strings.Join(allowed(r), ", ") + " does"})
	})
	r.Get("/readyz", s.ready)
	r.Get("/metrics", s.metrics)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("ok\n")) })

	// Git: cloning, fetching and pushing with the stock client.
	r.HandleFunc("/git", s.gitNowhere)
	r.HandleFunc("/git/*", s.git)

	r.Get("/feeds/{secret}", s.feed)

	r.Route(base, func(r chi.Router) {
		// The stream of events, and what a runner fetches.
		r.Get("/events", s.events)
		r.Get("/jobs/{id}/pack", s.jobPack)
		r.Get("/repositories/{house}/{name}/file", s.rawFile)
		r.Get("/repositories/{house}/{name}/freezes.ics", s.freezeFeed)
		r.Get("/houses/{house}/freezes.ics", s.freezeFeed)
		s.huma = humachi.New(r, described())
		s.huma.UseMiddleware(s.confined)
		s.routes()
	})
	r.HandleFunc("/api/*", s.notFound)
	r.Handle("/*", s.gitElsewhere(console.Handler()))
	protection := http.NewCrossOriginProtection()
	protection.AddInsecureBypassPattern("/git/")
	protection.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		writeProblem(w, &Problem{Status: http.StatusForbidden, Title: "Forbidden",
			Detail: "this request comes from another site's page"})
	}))
	return protection.Handler(r), s
}

// described says what the description of the API has besides the calls.
func described() huma.Config {
	config := huma.DefaultConfig("Tavrin", Version)
	config.DocsPath, config.SchemasPath, config.CreateHooks = "", "", nil
	config.OpenAPIPath = "/openapi"
	config.Info.Description = "Says what protects a branch, and queues and lands changes when the rules hold. Errors are problem " +
		"details (RFC 9457); a list is empty where there is nothing, never absent."
	config.Info.Contact = &huma.Contact{Name: "The administrator of the service"}
	config.Info.License = &huma.License{Name: "As the program's", Identifier: "LicenseRef-Tavrin"}
	config.Servers = []*huma.Server{{URL: base, Description: "The service that answers this"}}
	for _, subject := range wire.Subjects {
		config.Tags = append(config.Tags, &huma.Tag{Name: subject[0], Description: subject[1]})
	}
	config.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", func(t reflect.Type, hint string) string {
		if t == reflect.TypeFor[wire.Requirement]() {
			return "Requirement"
		}
		return huma.DefaultSchemaNamer(t, hint)
	})
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"bearer": {Type: "http", Scheme: "bearer",
		Description: "A token, as tavrin token create prints it"}}
	config.Security = []map[string][]string{{"bearer": {}}} // not "token": generators make a type of its name, and there is one
	return config
}

// allowed lists the methods that mean something at a request's path.
func allowed(r *http.Request) []string {
	var out []string
	for _, method := range []string{http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete} {
		if chi.RouteContext(r.Context()).Routes.Match(chi.NewRouteContext(), method, r.URL.Path) {
			out = append(out, method)
		}
	}
	return out
}

func (s *server) notFound(w http.ResponseWriter, r *http.Request) {
	writeProblem(w, &Problem{Status: http.StatusNotFound, Title: "Not Found", Detail: "there is nothing at " +
		r.URL.Path})
}

// routes is the table of contents of the JSON calls.
func (s *server) routes() {
	s.access()
	s.repositories()
	s.rules()
	s.areas()
	s.changes()
	s.reading()
	s.notifications()
	s.threads()
	s.waivers()
	s.webhooks()
	s.checks()
	s.queue()
	s.journal()
	s.refused()
}

// confined refuses calls that the token is not for, before anything of them is read.
func (s *server) confined(ctx huma.Context, next func(huma.Context)) {
	if err := s.mayCall(actor(ctx.Context()), ctx.Operation().OperationID); err != nil {
		_, w := humachi.Unwrap(ctx)
		writeProblem(w, s.problemOf(ctx.Context(), err))
		return
	}
	next(ctx)
}

// mayCall asks the service; a description of the API is made without one.
func (s *server) mayCall(a accounts.Actor, id string) error {
	if s.Service == nil {
		return nil
	}
	return s.Service.Access.MayCall(a, id)
}

// out is an answer with a body.
type out[T any] struct{ Body T }

// base is where the JSON calls are.
const base = "/api/v1"

// operation is how a call is described.
func operation(o wire.Operation) huma.Operation {
	op := huma.Operation{OperationID: o.ID, Method: o.Method, Path: o.Path, Summary: o.Summary,
		Description: o.Summary + "." + openedBy(o.ID), MaxBodyBytes: MaxBody,
		Tags: []string{o.Of}, Errors: []int{400, 401, 403, 404, 409, 422}}
	if o.Creates {
		op.DefaultStatus = http.StatusCreated
	}
	return op
}

// openedBy says which tokens for one purpose open a call.
func openedBy(id string) string {
	text := ""
	for _, scope := range []accounts.Scope{accounts.ScopeChecks, accounts.ScopeRunner} {
		if slices.Contains(accounts.CallsOf(scope), id) {
			text += fmt.Sprintf(" Tokens of the scope %s open it too.", scope)
		}
	}
	return text
}

// serve answers one of the calls.
func serve[I, O any](s *server, c wire.Call[I, O], f func(context.Context, accounts.Actor, *I) (O, error)) {
	huma.Register(s.huma, operation(c.Operation), func(ctx context.Context, input *I) (*out[O], error) {
		body, err := f(ctx, actor(ctx), input)
		if err != nil {
			return nil, s.problemOf(ctx, err)
		}
		return &out[O]{Body: body}, nil
	})
}

// watched has what one request reads watched for reading beside an open snapshot of its own.
func watched(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		next.ServeHTTP(w, r.WithContext(records.Watched(r.Context())))
	})
}
