package desk

import (
	"bytes"
	"context"
	"crypto/rand"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"reflect"
	"strconv"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"golang.org/x/time/rate"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/core/usage"
	"spindle/internal/door"
	"spindle/internal/gate"
	"spindle/internal/remote"
	"spindle/internal/store"
)

// Settings of the desk.
type Settings struct {
	Version     string
	WireAddress func() net.Addr
	WireTLS     bool
	WireURL     string   // as clients should use it; "" for the host they use for the desk and the wire's port
	Domains     []string // of host style
	Secure      bool     // the desk is served over TLS
	Registry    *prometheus.Registry
	Console     fs.FS // the built console: index.html and what it loads

	// Observe hears of each call: its operation, status and time; nil: nobody does.
	Observe func(call string, status int, took time.Duration)

	SessionFor time.Duration // default 12 h
	Endpoints  *remote.Pool
	Money      usage.Money
	Folders    []string // roots beneath which folders may be synced
	Scratch    string   // a folder for work
}

// Desk serves the API and the console.
type Desk struct {
	store     *store.Store
	gate      *gate.Gate
	endpoints *remote.Pool
	readiness readiness
	settings  Settings
	log       *slog.Logger
	held      *door.Budget // memory of calls under way
	live      *live
	rules     map[string]rule // of every call, by its operation

	ids   *door.RequestIDs
	whole http.Handler // the routes, for calls from within

	checking sync.Mutex
	checks   map[string]*rate.Limiter // of settings, by who asks for them
}

// New makes a desk of a store. Stop ends its live updates.
func New(s *store.Store, g *gate.Gate, settings Settings, log *slog.Logger) *Desk {
	if settings.SessionFor == 0 {
		settings.SessionFor = 12 * time.Hour
	}
	d := &Desk{store: s, gate: g, endpoints: settings.Endpoints, settings: settings, log: log,
		held:   door.NewBudget(heldByEach, heldByAll),
		ids:    door.NewRequestIDs(),
		checks: map[string]*rate.Limiter{}}
	d.live = startLive(d)
	return d
}

// Stop ends what the desk does by itself.
func (d *Desk) Stop() { d.live.stop() }

// Handler gives the routes.
func (d *Desk) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(d.numbered, d.recovered, secureHeaders)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { plain(w, http.StatusOK, "alive\n") })
	r.Get("/readyz", d.ready)
	if d.settings.Registry != nil {
		r.Method(http.MethodGet, "/metrics", promhttp.HandlerFor(d.settings.Registry, promhttp.HandlerOpts{}))
	}
	r.Group(func(r chi.Router) {
		r.Use(d.identify)
		r.Group(func(r chi.Router) {
			r.Use(door.InOnePiece)
			d.api(r)
		})
		r.Get("/api/v1/events", d.events)
		r.Get("/api/v1/profiles/{kind}", d.raw(d.profile))
		r.Post("/api/v1/charters/enact", d.raw(d.enactCharter))
		r.Get("/api/v1/buckets/{bucket}/body", d.raw(d.download))
		r.Put("/api/v1/buckets/{bucket}/body", d.raw(d.upload))
		r.Put("/api/v1/buckets/{bucket}/uploads/{id}/parts/{number}", d.raw(d.putPart))
		r.Post("/api/v1/endpoints/check", d.raw(d.watchEndpoint))
		r.Get("/api/v1/endpoints/{endpoint}/buckets/{there}/body", d.raw(d.downloadThere))
		r.Put("/api/v1/endpoints/{endpoint}/buckets/{there}/body", d.raw(d.uploadThere))
		r.Post("/api/v1/copies", d.raw(d.copyBetween))
		r.Post("/api/v1/syncs/{sync}/rehearse/list", d.raw(d.rehearseAll))
		r.Post("/api/v1/replications/{rule}/verify", d.raw(d.verifyReplication))
		r.Handle("/api/*", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			writeProblem(w, &api.Problem{Title: "Not found", Status: http.StatusNotFound, Detail: "there is no such call",
				Code: "no-call", Remedy: "see /openapi.yaml for the calls there are"})
		}))
	})
	r.NotFound(d.console())
	d.whole = r
	return r
}

// Document gives the OpenAPI document as YAML.
func Document() ([]byte, error) {
	d := &Desk{}
	return d.api(chi.NewRouter()).OpenAPI().YAML()
}

func (d *Desk) api(r chi.Router) huma.API {
	d.rules = map[string]rule{}
	cfg := huma.DefaultConfig("Spindle desk", "1")
	cfg.DocsPath = ""
	cfg.SchemasPath = ""
	cfg.CreateHooks = nil // no $schema links in answers
	cfg.Info.Description = "The API of the desk. Sign calls in their header, version 4, for the service \"desk\", with the SHA-256 of the body and a header Spindle-Once of random text; or sign in for a session."
	doc := humachi.New(r, cfg)
	doc.UseMiddleware(d.observed, d.ruled)
	doc.OpenAPI().Components.Schemas.RegisterTypeAlias(reflect.TypeFor[api.Limit](), reflect.TypeFor[limitSchema]())
	to := &calls{d, doc}
	d.serviceCalls(to)
	d.clockCalls(to)
	d.sessionCalls(to)
	d.bucketCalls(to)
	d.objectCalls(to)
	d.versionCalls(to)
	d.journalCalls(to)
	d.uploadCalls(to)
	d.overviewCalls(to)
	d.accountCalls(to)
	d.keyCalls(to)
	d.grantCalls(to)
	d.trailCalls(to)
	d.tierCalls(to)
	d.placementCalls(to)
	d.regionCalls(to)
	d.damageCalls(to)
	d.lifecycleCalls(to)
	d.endpointCalls(to)
	d.thereCalls(to)
	d.replicationCalls(to)
	d.syncCalls(to)
	d.findCalls(to)
	d.censusCalls(to)
	d.usageCalls(to)
	d.postCalls(to)
	d.auditCalls(to)
	d.charterCalls(to)
	return doc
}

func plain(w http.ResponseWriter, status int, text string) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(status)
	_, _ = w.Write([]byte(text))
}

// readyFor is for how long it is believed that writes succeed, or do not.
const readyFor = 2 * time.Second

// readiness is what was found when it was last tried to write.
type readiness struct {
	mu  sync.Mutex
	at  time.Time
	err error
}

// ready tells whether a write succeeds: one that was really made, to the database and to the
// volume of new bodies, within the last moments.
func (d *Desk) ready(w http.ResponseWriter, r *http.Request) {
	if err := d.writable(r.Context()); err != nil {
		f := fault.From(err)
		plain(w, http.StatusServiceUnavailable, f.Message+"\n"+f.Remedy+"\n")
		return
	}
	plain(w, http.StatusOK, "ready\n")
}

// writable tells whether writes work, as tried lately.
func (d *Desk) writable(ctx context.Context) error {
	// What is found is for all who ask: whoever asked first may leave.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
	defer cancel()
	d.readiness.mu.Lock()
	defer d.readiness.mu.Unlock()
	if time.Since(d.readiness.at) > readyFor {
		d.readiness.err = d.tryWriting(ctx)
		d.readiness.at = time.Now()
	}
	return d.readiness.err
}

// tryWriting makes a write to the database and one to the volume; a disk that hangs is not
// waited for.
func (d *Desk) tryWriting(ctx context.Context) error {
	if err := d.store.Catalog.Try(ctx); err != nil {
		return err
	}
	done := make(chan error, 1)
	go func() { done <- d.store.TryVolume() }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		return fault.New(fault.Unavailable, "volume-hangs", "the volume's disk does not answer").In("volume").
			Do("look at the disk and its mount; what is acknowledged is on it")
	}
}

// observed tells of each call that has an operation.
func (d *Desk) observed(ctx huma.Context, next func(huma.Context)) {
	begun := time.Now()
	next(ctx)
	if d.settings.Observe != nil {
		d.settings.Observe(ctx.Operation().OperationID, ctx.Status(), time.Since(begun))
	}
}

// requestHeader tells the id of a request, which stands in problems and in the log.
const requestHeader = "Spindle-Request"

func (d *Desk) numbered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := d.ids.Next()
		w.Header().Set(requestHeader, id)
		next.ServeHTTP(w, r.WithContext(door.Numbered(r.Context(), id)))
	})
}

func (d *Desk) recovered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			p := recover()
			if p == nil || p == http.ErrAbortHandler {
				if p != nil {
					panic(p)
				}
				return
			}
			d.log.Error("a call broke", "path", r.URL.Path, "request", door.RequestID(r.Context()), "panic", p)
			writeProblem(w, &api.Problem{Title: "Internal error", Status: 500, Detail: "something went wrong inside the service",
				Code: "internal", Remedy: "try again; the service's log has the cause"})
		}()
		next.ServeHTTP(w, r)
	})
}

// secureHeaders keeps pages of other origins away, and scripts and styles to our own.
func secureHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", contentPolicy(""))
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("X-Frame-Options", "DENY")
		next.ServeHTTP(w, r)
	})
}

// contentPolicy says what a page may load (Content Security Policy Level 3). Styles in
// the page itself must carry the nonce, if there is one.
func contentPolicy(nonce string) string {
	styles := "'self'"
	if nonce != "" {
		styles += " 'nonce-" + nonce + "'"
	}
	return "default-src 'none'; script-src 'self'; style-src " + styles + "; img-src 'self' data:; font-src 'self'; " +
		"connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
}

// noNonce is where the page's nonce goes, for styles that its components add.
const noNonce = `<meta name="style-nonce" content=""`

// console serves the built console; what is no file is a page of it.
func (d *Desk) console() http.HandlerFunc {
	dist := d.settings.Console
	files := http.FileServerFS(dist)
	index, err := fs.ReadFile(dist, "index.html")
	return func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			writeProblem(w, &api.Problem{Title: "Method not allowed", Status: http.StatusMethodNotAllowed,
				Detail: "the console is only read", Code: "method"})
			return
		}
		if len(r.URL.Path) > 1 {
			if st, err := fs.Stat(dist, r.URL.Path[1:]); err == nil && !st.IsDir() {
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
				files.ServeHTTP(w, r)
				return
			}
		}
		if err != nil {
			plain(w, http.StatusNotFound, "The console is not built into this program. Build it with: make build\n")
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		nonce := rand.Text()
		w.Header().Set("Content-Security-Policy", contentPolicy(nonce))
		w.Header().Set("Cache-Control", "no-store") // each its own nonce
		page := bytes.Replace(index, []byte(noNonce), []byte(noNonce[:len(noNonce)-1]+nonce+`"`), 1)
		w.Header().Set("Content-Length", strconv.Itoa(len(page)))
		_, _ = w.Write(page)
	}
}
