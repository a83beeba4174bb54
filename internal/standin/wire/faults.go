package wire

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"time"
)

// Faults are what is wrong with a stand-in. The zero value: nothing.
type Faults struct {
	Errors      float64  `json:"errors,omitempty"`      // share of requests that fail inside
	Burst       int      `json:"burst,omitempty"`       // how many fail in a row once one does; 0: one
	Latency     int      `json:"latency,omitempty"`     // milliseconds before each answer
	Bandwidth   int64    `json:"bandwidth,omitempty"`   // bytes a second of bodies, over all connections; 0: as it comes
	Cut         float64  `json:"cut,omitempty"`         // share of bodies that end in the middle, coming or going
	Wrong       float64  `json:"wrong,omitempty"`       // share of bodies of which a byte changes before it is summed and kept
	Rot         float64  `json:"rot,omitempty"`         // share of bodies that are read with a byte changed, under their old sum
	Refuse      []string `json:"refuse,omitempty"`      // keys that are refused; "*": all
	ReadOnly    bool     `json:"readOnly,omitempty"`    // whoever writes is not allowed to
	Clock       int      `json:"clock,omitempty"`       // seconds that its clock is ahead
	Lacks       []string `json:"lacks,omitempty"`       // features that it has not, see Features
	Throttle    float64  `json:"throttle,omitempty"`    // share of requests that are told to come later
	RetryAfter  int      `json:"retryAfter,omitempty"`  // seconds, told with it
	Away        bool     `json:"away,omitempty"`        // connections end without an answer
	OutageEvery int      `json:"outageEvery,omitempty"` // seconds from one outage's start to the next
	OutageFor   int      `json:"outageFor,omitempty"`   // seconds that each lasts
	MaxKey      int      `json:"maxKey,omitempty"`      // bytes of a key at the most
	MaxObject   int64    `json:"maxObject,omitempty"`   // bytes of an object at the most
}

// Features that a stand-in may lack.
var Features = []string{"versioning", "multipart", "conditions", "tags", "checksums", "classes", "lifecycle", "copy"}

// Check refuses faults that cannot be.
func (f *Faults) Check() error {
	for name, share := range map[string]float64{"errors": f.Errors, "cut": f.Cut, "wrong": f.Wrong, "rot": f.Rot,
		"throttle": f.Throttle} {
		if share < 0 || share > 1 {
			return fmt.Errorf("%s: a share is from 0 to 1", name)
		}
	}
	for _, l := range f.Lacks {
		if !slices.Contains(Features, l) {
			return fmt.Errorf("lacks: there is no feature %q; there are %v", l, Features)
		}
	}
	if f.OutageEvery > 0 && (f.OutageFor <= 0 || f.OutageFor > f.OutageEvery) {
		return fmt.Errorf("outageFor: an outage is shorter than the time from one to the next")
	}
	return nil
}

func (f *Faults) lacks(feature string) bool { return slices.Contains(f.Lacks, feature) }

// refuses reports whether a key is refused.
func (f *Faults) refuses(key string) bool {
	return slices.Contains(f.Refuse, key) || slices.Contains(f.Refuse, "*")
}

// Moods give what is wrong at the moment, from a seed.
type Moods struct {
	mu     sync.Mutex
	is     Faults
	rand   *rand.Rand
	burst  int
	began  time.Time
	budget time.Time // when the bandwidth is free again
}

// NewMoods begins with some faults.
func NewMoods(seed uint64, f Faults) *Moods {
	return &Moods{is: f, rand: rand.New(rand.NewPCG(seed, 0x5717d1e)), began: time.Now()}
}

// Set changes the faults.
func (m *Moods) Set(f Faults) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.is, m.burst, m.began = f, 0, time.Now()
}

// Now gives the faults.
func (m *Moods) Now() Faults {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.is
}

// happens draws whether something of a share happens this time.
func (m *Moods) happens(share float64) bool {
	if share <= 0 {
		return false
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.rand.Float64() < share
}

// fails draws whether a request fails inside.
func (m *Moods) fails() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.burst > 0 {
		m.burst--
		return true
	}
	if m.is.Errors > 0 && m.rand.Float64() < m.is.Errors {
		m.burst = max(0, m.is.Burst-1)
		return true
	}
	return false
}

// away reports whether it does not answer at the moment.
func (m *Moods) away() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.is.Away || m.is.OutageEvery <= 0 {
		return m.is.Away
	}
	// An outage ends each turn, so that a fresh start can be seen first.
	since := time.Since(m.began) % (time.Duration(m.is.OutageEvery) * time.Second)
	return since > time.Duration(m.is.OutageEvery-m.is.OutageFor)*time.Second
}

// pass waits until n bytes may pass.
func (m *Moods) pass(n int) {
	m.mu.Lock()
	if m.is.Bandwidth <= 0 {
		m.mu.Unlock()
		return
	}
	now := time.Now()
	if m.budget.Before(now) {
		m.budget = now
	}
	m.budget = m.budget.Add(time.Duration(float64(n) / float64(m.is.Bandwidth) * float64(time.Second)))
	wait := m.budget.Sub(now)
	m.mu.Unlock()
	time.Sleep(wait)
}
