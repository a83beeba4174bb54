package middle

import (
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus"

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

// RequestHeader tells the id of a request, which stands in problems and in the log.
const RequestHeader = "Spindle-Request"

// Middle is what the calls of the desk work with.
type Middle struct {
	Store     *store.Store
	Gate      *gate.Gate
	Endpoints *remote.Pool
	Settings  Settings
	Log       *slog.Logger
	Held      *door.Budget    // memory of calls under way
	Rules     map[string]Rule // of every call, by its operation
	Whole     http.Handler    // the routes, for calls from within
}

// New makes the middle of a desk.
func New(s *store.Store, g *gate.Gate, settings Settings, log *slog.Logger) *Middle {
	return &Middle{Store: s, Gate: g, Endpoints: settings.Endpoints, Settings: settings, Log: log,
		Held: door.NewBudget(heldByEach, heldByAll), Rules: map[string]Rule{}}
}
