package desk

import (
	"net"
	"net/http"
	"runtime/pprof"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"

	"spindle/internal/core/fault"
	"spindle/internal/desk/middle"
)

// longestProfile is for how many seconds the processor's time is watched at the most.
const longestProfile = 120

// profile sends a profile of the process, in the format of Go's tools, to operators who are
// on the machine: it tells of what others do.
func (d *Desk) profile(w http.ResponseWriter, r *http.Request) error {
	s := middle.Who(r.Context()).Subject
	host, _, _ := net.SplitHostPort(r.RemoteAddr)
	if ip := net.ParseIP(host); !s.Operator || ip == nil || !ip.IsLoopback() {
		return fault.New(fault.Refused, "operator-only",
			"profiles are for operators, on the machine of the service").In("profile").
			Do("ask on that machine, with the key of an operator")
	}
	kind := chi.URLParam(r, "kind")
	p := pprof.Lookup(kind)
	if kind != "cpu" && p == nil {
		return fault.New(fault.NotFound, "profile", "there is no profile %q", kind).In("profile").
			Do("name cpu, heap, allocs or goroutine")
	}
	seconds := 10
	if s := r.URL.Query().Get("seconds"); s != "" {
		var err error
		if seconds, err = strconv.Atoi(s); err != nil || seconds < 1 || seconds > longestProfile {
			return fault.New(fault.Invalid, "seconds", "a profile takes 1 to %d seconds", longestProfile).In("seconds")
		}
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	if p != nil {
		return p.WriteTo(w, 0)
	}
	if err := pprof.StartCPUProfile(w); err != nil {
		return fault.New(fault.Conflict, "profile-running", "the processor's time is being watched already").In("profile").
			Do("wait until that is done").Because(err)
	}
	defer pprof.StopCPUProfile()
	select {
	case <-time.After(time.Duration(seconds) * time.Second):
	case <-r.Context().Done():
	}
	return nil
}
