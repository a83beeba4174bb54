package catalog_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
	"spindle/internal/core/tier"
	"spindle/internal/harness"
)

// clockModel is a world with its true time, a machine whose clock is wrong by some, and what was written when.
type clockModel struct {
	t     *testing.T
	r     *rand.Rand
	url   string
	begun time.Time     // true
	now   time.Duration // of true time, since then
	wrong time.Duration // what the machine's clock is ahead of it
	c     *catalog.Catalog
	kept  []written
	held  time.Duration // true time for which rules had to wait since the last jump
}

// written is what was written: truly, and by the time that was told.
type written struct {
	truly time.Duration
	told  time.Time
}

func (m *clockModel) open() {
	if m.c != nil {
		m.c.Close()
	}
	var err error
	if m.c, err = catalog.Open(harness.Context(m.t), m.url); err != nil {
		m.t.Fatal(err)
	}
	m.look()
}

func (m *clockModel) look() {
	if err := m.c.LookAtClock(m.t.Context()); err != nil {
		m.t.Fatal(err)
	}
}

// TestTheClockAgainstAModel has the clock of the database's machine jump ahead and back, be wrong from the beginning, set
// right, and the service be stopped meanwhile: rules of one day remove nothing that is younger than that, whatever
// the clock says, and once somebody said that it is right everything old goes in the end.
func TestTheClockAgainstAModel(t *testing.T) {
	days := 2
	form := lifecycle.Form{Name: "old", Actions: []lifecycle.ActionForm{{Of: "current", Do: "remove", Days: &days}}}
	set, err := lifecycle.NewSet([]lifecycle.Form{form}, tier.Set{})
	if err != nil {
		t.Fatal(err)
	}
	for _, seed := range harness.Seeds(t, 1) {
		m := &clockModel{t: t, r: rand.New(rand.NewPCG(seed, 36)), url: harness.Database(t), begun: time.Now().UTC()}
		if m.r.IntN(2) == 0 {
			m.wrong = -time.Duration(m.r.IntN(100)) * time.Hour // from the beginning
		}
		catalog.ToldIn(t, func(c *catalog.Catalog) {
			c.TheirClock(func(time.Time) time.Time { return m.begun.Add(m.now + m.wrong) },
				func() time.Duration { return m.now })
			c.OwnClock(func() time.Time { return m.begun.Add(m.now + m.wrong) })
		})
		m.open()
		for range 100 {
			m.now += time.Duration(m.r.IntN(6*3600)) * time.Second
			switch n := m.r.IntN(20); {
			case n < 9:
				m.kept = append(m.kept, written{m.now, m.c.Now()})
			case n < 11:
				m.wrong = time.Duration(m.r.IntN(240)-120) * time.Hour
			case n < 14:
				m.wrong = 0
			case n < 15: // stopped for a while
				m.now += time.Duration(m.r.IntN(40)) * time.Hour
				m.open()
			default:
				m.confirm()
			}
			m.look()
			m.age(set)
		}
		// All is well from now on.
		m.wrong = 0
		for range 10 {
			m.now += 24 * time.Hour
			m.look()
			m.confirm()
			m.age(set)
		}
		if len(m.kept) > 0 {
			t.Errorf("%d things never go", len(m.kept))
		}
		if t.Failed() {
			t.Fatalf("seed %d", seed)
		}
		m.c.Close()
		m.c = nil
	}
}

// confirm says that the clock is right, when it is.
func (m *clockModel) confirm() {
	if m.wrong != 0 {
		return
	}
	m.look()
	list, err := m.c.Jumps(m.t.Context())
	if err != nil {
		m.t.Fatal(err)
	}
	for _, j := range list {
		if j.State == catalog.JumpAsked {
			if _, err := m.c.ClockRight(m.t.Context(), j.ID, time.Time{}, catalog.Author{At: m.c.Now(),
				Who: "the test"}); err != nil &&
				!fault.HasCode(err, "jump-decided") { // by one before it
				m.t.Fatal(err)
			}
		}
	}
	m.look()
}

// age has rules act.
func (m *clockModel) age(set *lifecycle.Set) {
	if m.c.Doubtful() {
		return
	}
	graces, err := m.c.Graces(m.t.Context())
	if err != nil {
		m.t.Fatal(err)
	}
	graced, now := set.Graced(graces), m.c.Now()
	var left []written
	for _, w := range m.kept {
		due := graced.Due(lifecycle.Item{Of: lifecycle.Current, Mask: 1, Since: w.told}, now)
		if due == nil {
			left = append(left, w)
			continue
		}
		if truly := m.now - w.truly; truly < 48*time.Hour-10*time.Minute {
			m.t.Errorf("what is %s old is removed by a rule of two days; it was written at %s as it was told, now is %s, truly %s",
				truly, w.told, now, m.begun.Add(m.now))
		}
	}
	m.kept = left
}
