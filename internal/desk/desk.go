package desk

import (
	"bytes"
	"context"
	"crypto/rand"
	"io/fs"
	"log/slog"
	"net/http"
	"reflect"
	"strconv"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"spindle/internal/api"
	"spindle/internal/core/audit"
	"spindle/internal/core/fault"
	"spindle/internal/desk/access"
	"spindle/internal/desk/house"
	"spindle/internal/desk/jobs"
	"spindle/internal/desk/middle"
	"spindle/internal/desk/objects"
	"spindle/internal/door"
	"spindle/internal/gate"
	"spindle/internal/store"
)

// Settings of the desk.
type Settings = middle.Settings

// Desk serves the API and the console.
type Desk struct {
	*middle.Middle
	house   *house.Desk
	access  *access.Desk
	jobs    *jobs.Desk
	objects *objects.Desk

	readiness readiness
	live      *live
	ids       *door.RequestIDs
}

// New makes a desk of a store. Stop ends its live updates.
func New(s *store.Store, g *gate.Gate, settings Settings, log *slog.Logger) *Desk {
	if settings.SessionFor == 0 {
		settings.SessionFor = 12 * time.Hour
	}
	d := assembled(middle.New(s, g, settings, log))
	d.live = startLive(d)
	return d
}

// assembled gives the desk without what goes on by itself.
func assembled(m *middle.Middle) *Desk {
	h := house.New(m)
	a := access.New(m, h)
	j := jobs.New(m, h, a)
	return &Desk{Middle: m, house: h, access: a, jobs: j, objects: objects.New(m, h, a, j), ids: door.NewRequestIDs()}
}

// Stop ends what the desk does by itself.
func (d *Desk) Stop() { d.live.stop() }

// Handler gives the routes.
func (d *Desk) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(d.numbered, d.recovered, secureHeaders)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { plain(w, http.StatusOK, "alive\n") })
	r.Get("/readyz", d.ready)
	if d.Settings.Registry != nil {
		r.Method(http.MethodGet, "/metrics", promhttp.HandlerFor(d.Settings.Registry, promhttp.HandlerOpts{}))
	}
	r.Group(func(r chi.Router) {
		r.Use(d.access.Identify)
		r.Group(func(r chi.Router) {
			r.Use(door.InOnePiece)
			d.api(r)
		})
		r.Get("/api/v1/events", d.events)
		r.Get("/api/v1/profiles/{kind}", d.Raw(d.profile))
		r.Post("/api/v1/charters/enact", d.Raw(d.jobs.EnactCharter))
		r.Get("/api/v1/buckets/{bucket}/body", d.Raw(d.objects.Download))
		r.Put("/api/v1/buckets/{bucket}/body", d.Raw(d.objects.Upload))
		r.Put("/api/v1/buckets/{bucket}/uploads/{id}/parts/{number}", d.Raw(d.objects.PutPart))
		r.Post("/api/v1/endpoints/check", d.Raw(d.house.WatchEndpoint))
		r.Get("/api/v1/endpoints/{endpoint}/buckets/{there}/body", d.Raw(d.objects.DownloadThere))
		r.Put("/api/v1/endpoints/{endpoint}/buckets/{there}/body", d.Raw(d.objects.UploadThere))
		r.Post("/api/v1/copies", d.Raw(d.objects.CopyBetween))
		r.Post("/api/v1/syncs/{sync}/rehearse/list", d.Raw(d.jobs.RehearseAll))
		r.Post("/api/v1/replications/{rule}/verify", d.Raw(d.jobs.VerifyReplication))
		r.Handle("/api/*", http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			middle.WriteProblem(w, &api.Problem{Title: "Not found", Status: http.StatusNotFound, Detail: "there is no such call",
				Code: "no-call", Remedy: "see /openapi.yaml for the calls there are"})
		}))
	})
	r.NotFound(d.console())
	d.Whole = r
	return r
}

// Document gives the OpenAPI document as YAML.
func Document() ([]byte, error) {
	d := assembled(middle.New(nil, nil, Settings{}, nil))
	return d.api(chi.NewRouter()).OpenAPI().YAML()
}

// CharterSchema gives the JSON Schema of charters (draft 2020-12), for editors.
func CharterSchema() ([]byte, error) { return jobs.CharterSchema() }

// Drifts says what is not as the charters of an account declare, for the audit.
func (d *Desk) Drifts(ctx context.Context, account string) ([]audit.Drift, error) {
	return d.jobs.Drifts(ctx, account)
}

func (d *Desk) api(r chi.Router) huma.API {
	clear(d.Rules)
	cfg := huma.DefaultConfig("Spindle desk", "1")
	cfg.DocsPath = ""
	cfg.SchemasPath = ""
	cfg.CreateHooks = nil // no $schema links in answers
	cfg.Info.Description = "The API of the desk. Sign calls in their header, version 4, for the service \"desk\", with the SHA-256 of the body and a header Spindle-Once of random text; or sign in for a session."
	doc := humachi.New(r, cfg)
	doc.UseMiddleware(d.observed, d.Ruled)
	doc.OpenAPI().Components.Schemas.RegisterTypeAlias(reflect.TypeFor[api.Limit](), reflect.TypeFor[middle.LimitSchema]())
	to := middle.NewCalls(d.Middle, doc)
	d.house.Register(to)
	d.access.Register(to)
	d.jobs.Register(to)
	d.objects.Register(to)
	d.serviceCalls(to)
	d.overviewCalls(to)
	d.usageCalls(to)
	d.auditCalls(to)
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
	if err := d.Store.Catalog.Try(ctx); err != nil {
		return err
	}
	done := make(chan error, 1)
	go func() { done <- d.Store.TryVolume() }()
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
	if d.Settings.Observe != nil {
		d.Settings.Observe(ctx.Operation().OperationID, ctx.Status(), time.Since(begun))
	}
}

func (d *Desk) numbered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := d.ids.Next()
		w.Header().Set(middle.RequestHeader, id)
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
			d.Log.Error("a call broke", "path", r.URL.Path, "request", door.RequestID(r.Context()), "panic", p)
			middle.WriteProblem(w, &api.Problem{Title: "Internal error", Status: 500, Detail: "something went wrong inside the service",
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
	dist := d.Settings.Console
	files := http.FileServerFS(dist)
	index, err := fs.ReadFile(dist, "index.html")
	return func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			middle.WriteProblem(w, &api.Problem{Title: "Method not allowed", Status: http.StatusMethodNotAllowed,
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
