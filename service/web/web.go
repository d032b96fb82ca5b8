// Package web is the HTTP of a service: the API for people, the API for agents, boot
// files, and events. It alone knows HTTP, and it decides nothing: every route asks one of
// the rooms beside it, and what those refuse becomes a problem (RFC 9457) in faults.go.
//
//	s := &web.Server{Fleet: fleet, Orders: orders, …}
//	http.Serve(listener, s.Handler())
//
// A file has the routes of one noun, and route.go what they have in common.
package web

import (
	"crypto/tls"
	"encoding/json"
	"log/slog"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/unrolled/secure"

	"jugate/api"
	"jugate/boot"
	"jugate/console"
	"jugate/oneport"
	"jugate/records"
	"jugate/service/access"
	"jugate/service/backups"
	"jugate/service/directories"
	"jugate/service/doctor"
	"jugate/service/domains"
	"jugate/service/fleet"
	"jugate/service/intake"
	"jugate/service/notify"
	"jugate/service/orders"
	"jugate/service/overview"
	"jugate/service/proofs"
	"jugate/service/reports"
	"jugate/service/settings"
	"jugate/service/sites"
	"jugate/service/standby"
	"jugate/service/stock"
	"jugate/service/stores"
)

// Server answers HTTP. Its fields are set before Handler is called.
type Server struct {
	Version     string
	Records     *records.DB
	Access      *access.Access
	Domains     *domains.Domains
	Directories *directories.Directories
	Fleet       *fleet.Fleet
	Intake      *intake.Intake
	Orders      *orders.Orders
	Proofs      *proofs.Proofs
	Sites       *sites.Sites
	Stores      *stores.Stores
	Overview    *overview.Overview
	Reports     *reports.Reports
	Notify      *notify.Notify
	Settings    *settings.Settings
	Doctor      *doctor.Doctor
	Figures     prometheus.Gatherer
	Backups     *backups.Backups
	Standby     *standby.Standby
	Stock       *stock.Stock
	Boot        *boot.Boot
	Events      *Events
	Log         *slog.Logger
	Now         func() time.Time
	Closing     <-chan struct{} // is closed when nothing more is waited for

	flows flows
}

// Handler has everything that is answered over HTTP: all of it by TLS, and boot files without.
func (s *Server) Handler() http.Handler {
	secure, plain := s.secure(), s.plain()
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.TLS == nil {
			plain.ServeHTTP(w, r)
			return
		}
		secure.ServeHTTP(w, r)
	})
}

// secure has what is answered by TLS.
func (s *Server) secure() http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.Recoverer, s.notePeer, oneport.Steady, hardened, s.serving)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) {
		writeJSON(w, http.StatusOK, "application/json", api.Health{Status: "up", Version: s.Version, Now: s.Now().UTC()})
	})
	r.Get("/readyz", s.ready)
	r.Get("/metrics", s.metrics())
	r.Route("/api/v1", func(r chi.Router) {
		r.Use(http.NewCrossOriginProtection().Handler) // the console signs in with a cookie
		s.peopleAPI(r)
		r.NotFound(notFound)
	})
	r.Route("/agent/v1", func(r chi.Router) {
		s.agentAPI(r)
		r.NotFound(notFound)
	})
	r.Route("/outpost/v1", s.outpostAPI)
	r.Route("/witness/v1", s.witnessRoutes)
	r.Route("/log", s.treeRoutes)
	r.Route("/signin", s.openIDRoutes)
	oneport.BootFiles(r, s.Boot)
	s.ownFiles(r)
	r.NotFound(console.Handler(secure.CSPNonce).ServeHTTP)
	return r
}

// ready tells whether the service can do its work now.
func (s *Server) ready(w http.ResponseWriter, r *http.Request) {
	health, status := api.Health{Status: "ready", Version: s.Version}, http.StatusOK
	if err := s.Records.Ready(r.Context()); err != nil {
		health.Status, status = "the records cannot be used: "+err.Error(), http.StatusServiceUnavailable
	} else if err := s.Intake.Room(); err != nil {
		health.Status, status = err.Error(), http.StatusServiceUnavailable
	}
	writeJSON(w, status, "application/json", health)
}

// OpenAPI is the document that describes /api/v1, made from the Go types.
func OpenAPI() ([]byte, error) {
	s := &Server{}
	return json.MarshalIndent(s.peopleAPI(chi.NewRouter()).OpenAPI(), "", "  ")
}

func (s *Server) peopleAPI(r chi.Router) huma.API {
	c := huma.DefaultConfig("Jugate", api.InterfaceVersion)
	c.Info.Description = "What people and their programs ask of a Jugate service. Errors are problem details (RFC 9457). Lists are cut into pages by offset and limit, and every list answers how many items there are in all; to who accepts text/csv it answers as a table, with the same names and plain values. Unknown parameters and fields are refused. Answers say in Logbook-Line how many lines the logbook has; who sends that number back as Unchanged-Since-Line with PUT or PATCH is refused (412) if somebody has changed the same thing since, and told what."
	c.Info.Contact = &huma.Contact{Name: "The makers of Jugate", URL: "https://jugate.example/"}
	c.Info.License = &huma.License{Name: "All rights reserved", URL: "https://jugate.example/licence"}
	c.Tags = tags
	c.Formats = map[string]huma.Format{"application/json": huma.DefaultJSONFormat, "json": huma.DefaultJSONFormat, table: {Marshal: marshalTable}}
	c.Servers = []*huma.Server{{URL: "/api/v1"}}
	c.OpenAPIPath, c.DocsPath, c.SchemasPath, c.CreateHooks = "/openapi", "", "", nil
	c.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer", Description: "A token of a person's program, or the key of last resort"},
		"session": {Type: "apiKey", In: "cookie", Name: api.SessionCookie, Description: "What POST /session sets"},
	}
	c.Security = []map[string][]string{{"token": {}}, {"session": {}}}
	h := humachi.New(r, c)
	h.UseMiddleware(s.requirePerson(h), s.tellLine, s.logbook(h), knownParameters(h))
	for _, routes := range []func(huma.API){
		s.sessionRoutes, s.peopleRoutes, s.logbookRoutes, s.logRoutes, s.workstationRoutes, s.answerRoutes, s.domainRoutes, s.directoryRoutes, s.payloadRoutes, s.refusalRoutes, s.cardRoutes, s.groupRoutes, s.imageRoutes, s.storeRoutes, s.importRoutes, s.errandRoutes,
		s.deliveryRoutes, s.preparedRoutes, s.checkRoutes, s.receiptRoutes, s.buildRoutes, s.mediaRoutes, s.accessRoutes, s.netbootRoutes, s.bootEntryRoutes, s.driverRoutes, s.setRoutes, s.outpostRoutes, s.storesRoutes, s.backupRoutes, s.overviewRoutes, s.reportRoutes, s.notificationRoutes, s.settingRoutes, s.doctorRoutes, s.modelRoutes, s.fileRoutes, s.eventRoutes, s.termRoutes,
	} {
		routes(h)
	}
	return h
}

// HTTP is a server around the handler, with time limits for clients.
func (s *Server) HTTP() *http.Server {
	// Agents prove that a pass is their own. The authority's name keeps browsers from asking
	// which certificate is to be shown.
	return oneport.Server(s.Handler(), &tls.Config{GetCertificate: s.Access.Certificates.For, ClientAuth: tls.RequestClientCert, ClientCAs: s.Access.Certificates.Pool()}, s.Log)
}
