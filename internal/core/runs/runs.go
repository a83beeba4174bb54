package runs

import (
	"time"

	"spindle/internal/core/fault"
)

// State is how far a run is.
type State string

// The states of a run. A census never asks, and is done whole or not at all.
const (
	Waiting State = "waiting" // for a process, or for another run into the same target
	Running State = "running"
	Asking  State = "asking" // it stopped before it did anything, and wants to be told to go on
	Done    State = "done"
	Partly  State = "partly" // done but for what failed
	Failed  State = "failed"
	Stopped State = "stopped"
)

// Ended reports whether nothing more comes of a run.
func (s State) Ended() bool { return s == Done || s == Partly || s == Failed || s == Stopped }

// Run is one execution of a job.
type Run struct {
	ID      int64
	Of      int64 // the number of its job
	State   State
	Who     string // asked for it, or "schedule"
	Stop    bool   // somebody asked it to stop
	Asked   time.Time
	Started *time.Time
	Ended   *time.Time
	Code    string // why it asks or failed
	Says    string
}

// Begin says that a process does the run from now on, be it the first one or another.
func (r *Run) Begin(now time.Time) {
	if r.State, r.Code, r.Says = Running, "", ""; r.Started == nil {
		r.Started = &now
	}
}

// End says what the run came to. Why is what it failed of, nil for nothing.
func (r *Run) End(now time.Time, state State, why error) {
	r.Ended, r.State = &now, state
	if why == nil {
		return
	}
	f := fault.From(why)
	if r.Code, r.Says = f.Code, f.Message; f.Remedy != "" {
		r.Says += ". Fix: " + f.Remedy
	}
}
