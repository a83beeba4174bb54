package standin

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"time"

	"spindle/internal/standin/hold"
	"spindle/internal/standin/wire"
)

// Faults are what is wrong with a stand-in.
type Faults = wire.Faults

// Settings of a stand-in.
type Settings struct {
	Listen string            // address; "" for a free port of loopback
	Dir    string            // where it keeps objects; "" in memory
	Region string            // that requests must be signed for; "" for any
	Keys   map[string]string // secrets by keys
	Seed   uint64            // of what is left to chance
	Faults Faults

	Heard func(bucket, key string) // hears of each object once it is put; nil: nobody does
}

// Standin is a running stand-in.
type Standin struct {
	URL  string
	Hold *hold.Hold

	server *wire.Server
	http   *http.Server
}

// Start starts a stand-in. Stop it.
func Start(s Settings) (*Standin, error) {
	if err := s.Faults.Check(); err != nil {
		return nil, err
	}
	if s.Listen == "" {
		s.Listen = "127.0.0.1:0"
	}
	l, err := net.Listen("tcp", s.Listen)
	if err != nil {
		return nil, err
	}
	h, err := hold.Open(s.Dir)
	if err != nil {
		return nil, errors.Join(err, l.Close())
	}
	is := &Standin{URL: "http://" + l.Addr().String(), Hold: h,
		server: &wire.Server{Hold: h, Moods: wire.NewMoods(s.Seed, s.Faults), Region: s.Region, Keys: s.Keys, Heard: s.Heard}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.standin/faults", is.tellFaults)
	mux.HandleFunc("PUT /.standin/faults", is.takeFaults)
	mux.HandleFunc("GET /.standin/counts", is.tellCounts)
	is.http = &http.Server{Handler: control(mux, is.server), ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = is.http.Serve(l) }() // ends with Stop
	return is, nil
}

// control has a path of its own; a mux would change paths with "//" in keys.
func control(mux, dialect http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if len(r.URL.Path) > 10 && r.URL.Path[:10] == "/.standin/" {
			mux.ServeHTTP(w, r)
			return
		}
		dialect.ServeHTTP(w, r)
	})
}

// Stop ends it; connections are cut.
func (s *Standin) Stop() error { return errors.Join(s.http.Close(), s.Hold.Close()) }

// Wait ends it once the context ends.
func (s *Standin) Wait(ctx context.Context) error {
	<-ctx.Done()
	return s.Stop()
}

// Set changes what is wrong with it.
func (s *Standin) Set(f Faults) error {
	if err := f.Check(); err != nil {
		return err
	}
	s.server.Moods.Set(f)
	return nil
}

// Counts gives how often each operation was answered, and bytes of bodies in and out.
func (s *Standin) Counts() map[string]int64 { return s.server.Counts() }

func (s *Standin) tellFaults(w http.ResponseWriter, _ *http.Request) { tell(w, s.server.Moods.Now()) }

func (s *Standin) tellCounts(w http.ResponseWriter, _ *http.Request) { tell(w, s.Counts()) }

func (s *Standin) takeFaults(w http.ResponseWriter, r *http.Request) {
	d := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20))
	d.DisallowUnknownFields()
	var f Faults
	err := d.Decode(&f)
	if err == nil {
		err = s.Set(f)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	tell(w, f)
}

func tell(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v) // who went away hears nothing
}
