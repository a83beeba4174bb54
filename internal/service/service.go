package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"spindle/internal/backup"
	"spindle/internal/bodies"
	"spindle/internal/catalog"
	"spindle/internal/core/audit"
	"spindle/internal/core/fault"
	"spindle/internal/core/tier"
	"spindle/internal/desk"
	"spindle/internal/desk/console"
	"spindle/internal/door"
	"spindle/internal/gate"
	"spindle/internal/keyring"
	"spindle/internal/places"
	"spindle/internal/postgres"
	"spindle/internal/remote"
	"spindle/internal/side"
	"spindle/internal/store"
	"spindle/internal/wire/server"
	"spindle/internal/works"
)

// Version of the program.
const Version = "0.1.0"

// Service is a running service.
type Service struct {
	Store   *store.Store
	Keys    *keyring.Ring
	Gate    *gate.Gate
	Remote  *remote.Pool
	Crew    *works.Crew
	Made    *keyring.Key // the owner's key, when this start made it
	Config  Config
	WireURL string
	DeskURL string

	log      *slog.Logger
	lockFile *os.File
	undo     []func()
	failed   chan error
	wire     *http.Server
	desk     *http.Server
	api      atomic.Pointer[desk.Desk]
}

// Start starts a service. The caller stops it; Failed tells when it cannot go on.
func Start(ctx context.Context, cfg Config, log *slog.Logger) (_ *Service, err error) {
	if err := cfg.fill(); err != nil {
		return nil, err
	}
	s := &Service{Config: cfg, log: log, failed: make(chan error, 2)}
	defer func() {
		if err != nil {
			s.unwind()
		}
	}()
	if err := os.MkdirAll(cfg.Data, 0o711); err != nil { // the database's user passes through
		return nil, fault.New(fault.Invalid, "data-directory", "the data directory cannot be made").In("data").
			Do("give a directory that this process may write to").Because(err)
	}
	if err := backup.Begun(cfg.Data); err != nil {
		return nil, err
	}
	if err := s.lock(); err != nil {
		return nil, err
	}
	wireL, err := s.listen("wire", cfg.Wire)
	if err != nil {
		return nil, err
	}
	deskL, err := s.listen("desk", cfg.Desk)
	if err != nil {
		return nil, err
	}
	cat, err := s.catalog(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.foundations(ctx, cat); err != nil {
		return nil, err
	}
	if err := s.Store.RefreshTiers(ctx); err != nil {
		return nil, err
	}
	if err := s.Store.RefreshDamage(ctx); err != nil {
		return nil, err
	}
	s.Gate = gate.New(cat, s.Keys, s.Store.Owner, log)
	s.undo = append(s.undo, s.Gate.Stop)
	s.keepReserve()
	if err := s.crew(); err != nil {
		return nil, err
	}
	s.serve(wireL, deskL)
	return s, s.sign("wire " + s.WireURL + ", desk " + s.DeskURL)
}

// catalog starts the private database, unless another was given, and opens the catalog in it.
func (s *Service) catalog(ctx context.Context) (*catalog.Catalog, error) {
	url := s.Config.Database
	if url == "" {
		pg, err := postgres.StartWith(ctx, filepath.Join(s.Config.Data, "postgres"), s.log,
			postgres.Settings{KeepLog: s.Config.KeepLog})
		if err != nil {
			return nil, err
		}
		s.undo = append(s.undo, pg.Stop)
		url = pg.URL("postgres")
	}
	cat, err := open(ctx, url)
	if err == nil {
		s.undo = append(s.undo, func() { cat.Close() })
	}
	return cat, err
}

// foundations opens the volume and the keys and puts the store together: what the first of several
// processes that start at once makes, the others find.
func (s *Service) foundations(ctx context.Context, cat *catalog.Catalog) error {
	cfg := s.Config
	started, err := cat.Starting(ctx)
	if err != nil {
		return err
	}
	defer started()
	vol, err := openMain(ctx, cat, filepath.Join(cfg.Data, "volumes", "main"), cfg.AcceptVolume)
	if err != nil {
		return err
	}
	s.undo = append(s.undo, func() { vol.Close() })
	s.Store = store.New(cat, bodies.NewSpaces(vol), cfg.Region)
	if s.Store.Service, err = cat.ServiceID(ctx); err != nil {
		return err
	}
	if s.Keys, err = keyring.Open(ctx, cat, filepath.Join(cfg.Data, "master.key"), cfg.MasterKey); err != nil {
		return err
	}
	reach, err := remote.ParseReach(cfg.Reach)
	if err != nil {
		return err
	}
	s.Remote = remote.NewPool(cat, s.Keys, reach)
	vol.SealWith(s.Keys)
	if away := vol.Present(); away != nil {
		s.log.Warn("the service starts without its volume; what is on it is given once its disk is back", "error", away,
			"remedy", "mount it; if it is the right one, restored without its marker, start once with --accept-volume")
	}
	s.Store.Sealer = s.Keys
	s.Store.PlaceOf = func(p tier.Place) bodies.Place {
		return &side.Place{Pool: s.Remote, Endpoint: p.Endpoint, Name: p.Name, Bucket: p.Bucket, Prefix: p.Prefix}
	}
	if s.Made, err = s.Keys.First(ctx, cfg.Account, cfg.OwnerKey, cfg.OwnerSecret); err != nil {
		return err
	}
	return cat.EnsurePartitions(ctx, time.Now(), time.Now().AddDate(0, 2, 0))
}

// crew starts the work in the background.
func (s *Service) crew() (err error) {
	cfg := s.Config
	cfg.Works.May, cfg.Works.Remote, cfg.Works.MayReplicate = s.mayOrder, s.Remote, s.mayReplicate
	cfg.Works.Drifts = s.drifts
	cfg.Works.MayUse, cfg.Works.Processes = s.mayUse, filepath.Join(cfg.Data, "processes")
	if cfg.Works.Folders, err = places.Roots(cfg.Works.Folders); err != nil {
		return err
	}
	cfg.Works.Scratch = filepath.Join(cfg.Data, "scratch")
	if err := os.MkdirAll(cfg.Works.Scratch, 0o700); err != nil {
		return err
	}
	s.Crew = works.Start(s.Store, cfg.Works, s.log)
	s.undo = append(s.undo, s.Crew.Stop)
	return nil
}

// openMain opens the volume of the tier main. The first start marks it; then the marker
// tells whether its disk is there. One that is away is opened as such: until its disk is back
// it gives and takes nothing.
func openMain(ctx context.Context, cat *catalog.Catalog, dir string, accept bool) (*bodies.Volume, error) {
	want, err := cat.MainMarker(ctx, "")
	if err != nil {
		return nil, err
	}
	there, err := bodies.ReadMarker(dir)
	if err != nil {
		return nil, err
	}
	if want != "" && there != want && !accept {
		return bodies.OpenMarked(dir, 0, want), nil
	}
	vol, err := bodies.Open(dir, 0)
	if err != nil {
		return nil, err
	}
	marker, err := vol.Mark(bodies.NewMarker())
	if err == nil && accept && want != marker {
		err = cat.AcceptMain(ctx, marker)
	}
	if err == nil {
		want, err = cat.MainMarker(ctx, marker)
	}
	if err == nil && want != marker {
		err = bodies.Away(dir, "another process has its bodies elsewhere").
			Do("processes that share a database share the data directory's volumes too")
	}
	return vol, err
}

func open(ctx context.Context, url string) (*catalog.Catalog, error) {
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	return catalog.Open(ctx, url)
}

// lock keeps a second service off a private data directory. Services that
// share a database may share the directory.
func (s *Service) lock() error {
	if s.Config.Database != "" {
		return nil
	}
	f, err := os.OpenFile(filepath.Join(s.Config.Data, "lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return fault.New(fault.Invalid, "data-directory", "the data directory cannot be used").In("data").Because(err)
	}
	if err := flock(f, s.Config.Data); err != nil {
		f.Close()
		return err
	}
	s.lockFile = f
	s.undo = append(s.undo, func() { f.Close() })
	return s.sign("starting")
}

// sign writes into the lock who holds it and how to reach it.
func (s *Service) sign(addresses string) error {
	if s.lockFile == nil {
		return nil
	}
	if err := s.lockFile.Truncate(0); err != nil {
		return err
	}
	_, err := s.lockFile.WriteAt([]byte(strconv.Itoa(os.Getpid())+" "+addresses+"\n"), 0)
	return err
}

func (s *Service) listen(flag, addr string) (net.Listener, error) {
	l, err := net.Listen("tcp", addr)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fault.New(fault.Conflict, "port-taken", "the address %s is taken by another program", addr).In(flag).
			Do("choose another with --%s HOST:PORT", flag)
	}
	if err != nil {
		return nil, fault.New(fault.Invalid, "address", "the service cannot listen on %s", addr).In(flag).
			Do("choose another with --%s HOST:PORT", flag).Because(err)
	}
	s.undo = append(s.undo, func() { l.Close() })
	return l, nil
}

func (s *Service) serve(wireL, deskL net.Listener) {
	cfg := s.Config
	scheme := "http"
	if cfg.TLSCert != "" {
		scheme = "https"
	}
	s.WireURL, s.DeskURL = scheme+"://"+wireL.Addr().String(), scheme+"://"+deskL.Addr().String()
	registry := prometheus.NewRegistry()
	wire := server.New(s.Store, s.Gate, server.Settings{Domains: cfg.Domains, TLS: cfg.TLSCert != "",
		StrictRegion: cfg.StrictRegion, Origins: cfg.Origins, Observe: observer(registry)}, s.log)
	wireDoor := door.New(door.Settings{Quiet: cfg.SlowAfter, Header: cfg.SlowAfter, Most: cfg.Connections,
		MostEach: cfg.ConnectionsEach, Log: s.log, Unread: wire.Unread})
	// The desk has a door of its own, so that no flood of the wire keeps administrators out.
	deskDoor := door.New(door.Settings{Quiet: cfg.SlowAfter, Most: max(8, cfg.Connections/4),
		MostEach: max(4, cfg.ConnectionsEach/4), Log: s.log})
	for name, d := range map[string]*door.Door{"wire": wireDoor, "desk": deskDoor} {
		watchDoor(registry, name, d)
	}
	registry.MustRegister(prometheus.NewGaugeFunc(
		prometheus.GaugeOpts{Name: "spindle_clock_ahead_seconds",
			Help: "What the process's clock is ahead of the database's."},
		func() float64 { return s.Store.Catalog.Ahead().Seconds() }))
	registry.MustRegister(elsewhere{s.Store}, figures{s.Store})
	s.wire = wireDoor.Server(wire)
	d := desk.New(s.Store, s.Gate, desk.Settings{Version: Version, Console: console.Files(), WireAddress: wireL.Addr,
		WireTLS: cfg.TLSCert != "",
		WireURL: cfg.WireURL, Domains: cfg.Domains,
		Secure: cfg.TLSCert != "", Registry: registry, Observe: deskObserver(registry), Endpoints: s.Remote,
		Folders: cfg.Works.Folders, Money: cfg.Money,
		Scratch: cfg.Works.Scratch}, s.log)
	s.desk = deskDoor.Server(d.Handler())
	s.api.Store(d)
	s.desk.RegisterOnShutdown(d.Stop)
	run := func(h *http.Server, d *door.Door, l net.Listener) {
		l, err := secured(d, d.Listener(l), cfg.TLSCert, cfg.TLSKey)
		if err == nil {
			err = h.Serve(l)
		}
		if !errors.Is(err, http.ErrServerClosed) {
			s.failed <- err
		}
	}
	go run(s.wire, wireDoor, wireL)
	go run(s.desk, deskDoor, deskL)
}

// secured has a door's listener serve TLS when a certificate is given.
func secured(d *door.Door, l net.Listener, cert, key string) (net.Listener, error) {
	if cert == "" {
		return l, nil
	}
	pair, err := tls.LoadX509KeyPair(cert, key)
	if err != nil {
		return l, fault.New(fault.Invalid, "tls-cert", "the certificate cannot be used").In("tls-cert").
			Do("give a certificate and its key as PEM files").Because(err)
	}
	return d.Secured(l, &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{pair},
		NextProtos: []string{"http/1.1"}}), nil
}

// Failed gives an error when the service cannot go on.
func (s *Service) Failed() <-chan error { return s.failed }

// Stop drains requests until ctx ends, then stops everything.
func (s *Service) Stop(ctx context.Context) error {
	var g errgroup.Group
	for _, h := range []*http.Server{s.wire, s.desk} {
		g.Go(func() error {
			err := h.Shutdown(ctx)
			if err != nil {
				err = errors.Join(fmt.Errorf("requests were cut off: %w", err), h.Close())
			}
			return err
		})
	}
	err := g.Wait()
	s.unwind()
	return err
}

func (s *Service) unwind() {
	for i := len(s.undo) - 1; i >= 0; i-- {
		s.undo[i]()
	}
	s.undo = nil
}

// drifts says what is not as charters declare, once there is a desk to ask.
func (s *Service) drifts(ctx context.Context, account string) ([]audit.Drift, error) {
	if d := s.api.Load(); d != nil {
		return d.Drifts(ctx, account)
	}
	return nil, nil
}

// watchDoor has the metrics tell of connections.
func watchDoor(r *prometheus.Registry, name string, d *door.Door) {
	labels := prometheus.Labels{"at": name}
	r.MustRegister(
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "spindle_connections", Help: "Open connections.",
			ConstLabels: labels}, func() float64 { return float64(d.Open()) }),
		prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "spindle_connections_refused_total",
			Help: "Connections turned away, or closed to make room for others.", ConstLabels: labels},
			func() float64 { return float64(d.Refused()) }))
}

// observer counts requests of the wire for the metrics.
func observer(r *prometheus.Registry) func(string, int, time.Duration, int64, int64) {
	seconds := prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "spindle_wire_request_seconds",
		Help:    "Time to answer requests of the wire.",
		Buckets: []float64{.0005, .001, .0025, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10, 60}}, []string{"operation"})
	count := prometheus.NewCounterVec(prometheus.CounterOpts{Name: "spindle_wire_requests_total",
		Help: "Requests of the wire."}, []string{"operation", "status"})
	bytes := prometheus.NewCounterVec(prometheus.CounterOpts{Name: "spindle_wire_bytes_total",
		Help: "Bytes of bodies of the wire."}, []string{"direction"})
	r.MustRegister(seconds, count, bytes)
	in, out := bytes.WithLabelValues("in"), bytes.WithLabelValues("out")
	return func(op string, status int, took time.Duration, received, sent int64) {
		seconds.WithLabelValues(op).Observe(took.Seconds())
		count.WithLabelValues(op, strconv.Itoa(status)).Inc()
		in.Add(float64(received))
		out.Add(float64(sent))
	}
}

// deskObserver counts calls of the desk for the metrics.
func deskObserver(r *prometheus.Registry) func(string, int, time.Duration) {
	seconds := prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "spindle_desk_call_seconds",
		Help:    "Time to answer calls of the desk.",
		Buckets: []float64{.001, .005, .01, .05, .1, .5, 1, 5, 10, 60}}, []string{"call", "status"})
	r.MustRegister(seconds)
	return func(call string, status int, took time.Duration) {
		seconds.WithLabelValues(call, strconv.Itoa(status)).Observe(took.Seconds())
	}
}

// CheckFree reports whether no service holds a data directory. The error has
// the code data-busy.
func CheckFree(dir string) error {
	f, err := os.Open(filepath.Join(dir, "lock"))
	if err != nil {
		return nil // no lock, no holder
	}
	defer f.Close()
	return flock(f, dir)
}

func flock(f *os.File, dir string) error {
	if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil {
		return nil
	}
	b, _ := io.ReadAll(io.LimitReader(f, 256))
	pid, addresses, _ := strings.Cut(strings.TrimSpace(string(b)), " ")
	return fault.New(fault.Conflict, "data-busy", "another service, process %s, holds the data directory %s (%s)", pid,
		dir, addresses).In("data").
		Do("stop that process, or choose another directory; several processes can share one with --database")
}
