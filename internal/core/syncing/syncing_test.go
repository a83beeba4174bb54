package syncing

import (
	"cmp"
	"fmt"
	"iter"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/pattern"
	"spindle/internal/core/sealing"
)

var noon = time.Date(2026, 3, 14, 12, 0, 0, 0, time.UTC)

// listed reads entries as KEY SIZE HOUR [CRC], one a line.
func listed(text string) (out []Entry) {
	for line := range strings.Lines(text) {
		var e Entry
		var hour int
		var crc uint64
		n, _ := fmt.Sscan(line, &e.Key, &e.Size, &hour, &crc)
		if n == 0 {
			continue
		}
		if e.Modified = noon.Add(time.Duration(hour) * time.Hour); n > 3 {
			e.CRC64 = &crc
		}
		out = append(out, e)
	}
	return out
}

func stream(list []Entry) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		for _, e := range list {
			if !yield(e, nil) {
				return
			}
		}
	}
}

func planned(t *testing.T, source, target []Entry, o Options) (text string, sums Totals) {
	t.Helper()
	if o.Now.IsZero() {
		o.Now = noon
	}
	for s, err := range Plan(stream(source), stream(target), o) {
		if err != nil {
			t.Fatal(err)
		}
		sums.Add(&s)
		text += fmt.Sprintf("%s %s: %s\n", s.Do, s.Key, s.Why)
	}
	return text, sums
}

func TestPlans(t *testing.T) {
	source := listed("a 1 0\nb 2 0\nc 3 0\nd 4 0 7\ne 5 0 7\nf 6 0\ng/h 7 0")
	target := listed("b 2 1\nc 9 1\nd 4 -9 7\ne 5 9 8\nf 6 -1\nz 1 0")
	got, sums := planned(t, source, target, Options{Mode: Mirror, CanHold: func(key string) error {
		if strings.HasPrefix(key, "g/") {
			return fault.New(fault.Invalid, "x", "no folders")
		}
		return nil
	}})
	want := "write a: new\nskip b: the same\nwrite c: another size\nskip d: the same\nwrite e: another digest\n" +
		"doubt f: newer at the source\nrefuse g/h: the target cannot hold the key\nremove z: at the target alone\n"
	if got != want {
		t.Errorf("got\n%swant\n%s", got, want)
	}
	if sums.Source != 7 || sums.Target != 6 || sums.New != (Sum{1, 1}) || sums.Replace != (Sum{2, 8}) ||
		sums.Remove != (Sum{1, 1}) || sums.Doubt != (Sum{1, 6}) || sums.Same != (Sum{2, 6}) || sums.Refused.Objects != 1 {
		t.Errorf("%+v", sums)
	}
	if got, _ := planned(t, nil, target, Options{Mode: Accumulate}); strings.Contains(got, "remove") {
		t.Errorf("accumulating removes: %s", got)
	}
	if got, _ := planned(t, listed("f 6 0"), listed("f 6 -1"), Options{By: BySize}); got != "skip f: the same\n" {
		t.Errorf("by size: %s", got)
	}
	if got, _ := planned(t, listed("f 6 0"), listed("f 6 1"), Options{By: ByDigest}); got != "doubt f: another digest\n" {
		t.Errorf("by digest: %s", got)
	}
}

// What a filter leaves out is neither written nor removed.
func TestFilters(t *testing.T) {
	p := func(text string) []pattern.Pattern {
		x, err := pattern.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		return []pattern.Pattern{x}
	}
	five := int64(5)
	source, target := listed("a.tif 1 0\nb.txt 2 0\nlarge.tif 9 0\nold.tif 1 -99"),
		listed("x.tif 1 0\ny.txt 1 0\nz.tif 8 0")
	for want, f := range map[string]Filter{
		"write a.tif: new\nwrite large.tif: new\nwrite old.tif: new\nremove x.tif: at the target alone\nremove z.tif: at the target alone\n": {Like: p("*.tif")},
		"write b.txt: new\nremove y.txt: at the target alone\n":                                                                              {LeaveOut: p("*.tif")},
		"write large.tif: new\nremove z.tif: at the target alone\n":                                                                          {SizeFrom: &five},
		"write old.tif: new\n":                                  {OlderBy: 48 * time.Hour},
		"write a.tif: new\nremove x.tif: at the target alone\n": {NewerBy: time.Hour, Like: p("?.tif"), SizeTo: &five},
	} {
		if got, _ := planned(t, source, target, Options{Mode: Mirror, Filter: f}); got != want {
			t.Errorf("%+v: got\n%swant\n%s", f, got, want)
		}
	}
}

// A listing that is not in order, or ends with an error, ends the plan: what is missing in
// it may not be taken for gone.
func TestListingsThatCannotBeTrusted(t *testing.T) {
	failing := func(yield func(Entry, error) bool) {
		_ = yield(Entry{Key: "a"}, nil) && yield(Entry{}, fault.New(fault.Unavailable, "unreachable", "the line broke"))
	}
	for code, source := range map[string]iter.Seq2[Entry, error]{"listing-order": stream(listed("b 1 0\na 1 0")),
		"unreachable": failing} {
		var err error
		var removed int
		for s, serr := range Plan(source, stream(listed("a 1 0\nc 1 0\nd 1 0")), Options{Mode: Mirror, Now: noon}) {
			if err = serr; s.Do == Remove {
				removed++
			}
		}
		if !fault.HasCode(err, code) || removed > 1 {
			t.Errorf("%s: %v after %d removals", code, err, removed)
		}
	}
}

// Whatever two sides hold, after the steps a mirror's target is as the source, and one that
// accumulates holds the source.
func TestPlansMakeSidesEqual(t *testing.T) {
	r := rand.New(rand.NewPCG(4217, 14))
	for range 500 {
		side := func() map[string]Entry {
			m := map[string]Entry{}
			for range r.IntN(12) {
				crc := uint64(r.IntN(3))
				e := Entry{Key: string(rune('a' + r.IntN(8))), Size: int64(crc % 2), Modified: noon, CRC64: &crc}
				m[e.Key] = e
			}
			return m
		}
		list := func(m map[string]Entry) (out []Entry) {
			for _, e := range m {
				out = append(out, e)
			}
			slices.SortFunc(out, func(a, b Entry) int { return cmp.Compare(a.Key, b.Key) })
			return out
		}
		for _, mode := range []Mode{Accumulate, Mirror} {
			source, target := side(), side()
			before := len(target)
			gone := 0
			for s, err := range Plan(stream(list(source)), stream(list(target)), Options{Mode: mode, Now: noon}) {
				switch {
				case err != nil:
					t.Fatal(err)
				case s.Do == Write:
					target[s.Key] = *s.Source
				case s.Do == Remove:
					delete(target, s.Key)
					gone++
				}
			}
			for k, e := range source {
				if got, ok := target[k]; !ok || *got.CRC64 != *e.CRC64 {
					t.Fatalf("%s: %s is %v there", mode, k, got)
				}
			}
			if mode == Mirror && len(target) != len(source) || mode == Accumulate && (gone > 0 || len(target) < before) {
				t.Fatalf("%s: %d at the source, %d at the target", mode, len(source), len(target))
			}
		}
	}
}

func TestGuard(t *testing.T) {
	for _, x := range []struct {
		t    Totals
		mode Mode
		want string
	}{
		{Totals{Source: 100, Target: 100, Replace: Sum{10, 0}}, Accumulate, ""},
		{Totals{Source: 100, Target: 100, Replace: Sum{8, 0}, Remove: Sum{3, 0}}, Mirror, "guard"},
		{Totals{Source: 8, Target: 8, Replace: Sum{5, 0}}, Mirror, ""},
		{Totals{Source: 0, Target: 3, Remove: Sum{3, 0}}, Mirror, "source-empty"},
		{Totals{Source: 0, Target: 3, Left: Sum{3, 0}}, Accumulate, ""},
		{Totals{Source: 99_000, Target: 100_000, Remove: Sum{1001, 0}}, Mirror, "guard"},
		{Totals{Source: 99_000, Target: 100_000, Remove: Sum{1000, 0}}, Mirror, ""},
		{Totals{Source: 5000, New: Sum{5000, 0}}, Mirror, ""},
		{Totals{Source: 3, Target: 3, Replace: Sum{3, 0}}, Mirror, "guard"},
		{Totals{Source: 1, Target: 1, Replace: Sum{1, 0}, TargetBytes: 100}, Mirror, ""},
		{Totals{Source: 1, Target: 1, Replace: Sum{1, 0}, TargetBytes: 100, Lost: 100}, Mirror, "guard"},
		{Totals{Source: 4, Target: 5, Remove: Sum{1, 20}, TargetBytes: 100, Lost: 20}, Mirror, ""},
		{Totals{Source: 4, Target: 5, Remove: Sum{1, 60}, TargetBytes: 100, Lost: 60}, Mirror, "guard"},
		{Totals{Source: 1, Target: 5, Remove: Sum{4, 40}, TargetBytes: 100, Lost: 40}, Mirror, ""},
		{Totals{Source: 5, Target: 5, Remove: Sum{5, 50}, New: Sum{5, 50}, TargetBytes: 50, Lost: 50}, Mirror, "guard"},
		{Totals{Source: 92, Target: 100, Remove: Sum{8, 30}, TargetBytes: 100, Lost: 30}, Mirror, "guard"},
	} {
		if err := Usual.Check(&x.t, x.mode); x.want == "" && err != nil || x.want != "" && !fault.HasCode(err, x.want) {
			t.Errorf("%+v: %v", x.t, err)
		}
	}
}

func TestWordsOfJobs(t *testing.T) {
	for _, m := range Modes {
		if got, err := ParseMode(string(m.Mode)); got != m.Mode || err != nil || m.Says == "" {
			t.Errorf("%s: %v", m.Mode, err)
		}
	}
	if _, err := ParseMode("destroy"); !fault.HasCode(err, "mode") {
		t.Error(err)
	}
	if _, err := ParseBy("smell"); !fault.HasCode(err, "compare-by") {
		t.Error(err)
	}
}

func TestLimits(t *testing.T) {
	for text, want := range map[string]string{"2MiB": "2MiB", "08:00-18:00 1MiB/s": "08:00-18:00 1MiB",
		"22:30-6:00 none": "22:30-06:00 none",
		"none":            "none", " 300KB ": "300000", "00:00-24:00 1MiB": "", "25:00-3:00 1MiB": "", "08:00 1MiB": "",
		"fast": "",
		"1":    "", "": "",
		"08:61-09:00 1MiB": ""} {
		l, err := ParseLimit(text)
		if (err == nil) != (want != "") || err == nil && l.String() != want {
			t.Errorf("%q is %q, %v", text, l, err)
		}
	}
	parse := func(text string) Limit {
		l, err := ParseLimit(text)
		if err != nil {
			t.Fatal(err)
		}
		return l
	}
	j := &Job{Spec: Spec{Zone: "Europe/Oslo", Limits: []Limit{parse("08:00-18:00 1MiB"), parse("10MiB"),
		parse("22:00-06:00 none")}}}
	for at, want := range map[string]int64{"07:59": 10 << 20, "08:00": 1 << 20, "17:59": 1 << 20, "18:00": 10 << 20,
		"23:00": 0,
		"05:59": 0, "06:00": 10 << 20} {
		oslo, err := time.LoadLocation("Europe/Oslo")
		if err != nil {
			t.Fatal(err)
		}
		moment, err := time.ParseInLocation("2006-01-02 15:04", "2026-07-01 "+at, oslo)
		if err != nil {
			t.Fatal(err)
		}
		if got := j.Rate(moment.UTC()); got != want {
			t.Errorf("at %s: %d, not %d", at, got, want)
		}
	}
	if err := checkLimits([]Limit{parse("1MiB"), parse("2MiB")}); !fault.HasCode(err, "bandwidth") {
		t.Errorf("two for all times: %v", err)
	}
}

// A job turned round removes nothing and has no schedule; its sheet has the command that
// recovers, quoted, and no secret.
func TestBackAndSheet(t *testing.T) {
	m, k, err := sealing.New("linen thread on a reel", true)
	if err != nil {
		t.Fatal(err)
	}
	j := &Job{Name: "nightly", From: Place{Bucket: "plates"}, To: Place{Endpoint: "mill", Bucket: "kept", Prefix: "it's/"},
		Spec: Spec{Mode: Mirror, Schedule: "@daily", Seals: m, Class: "COLD", Guard: Usual}, Secret: []byte("x"),
		Who: "OWNER"}
	b := j.Back("2026/", nil)
	if b.From != j.To || b.To != j.From || b.Mode != Accumulate || b.Schedule != "" || !b.Opens() || b.Class != "" ||
		j.Opens() {
		t.Errorf("turned round: %+v", b)
	}
	if o, err := b.Options(); err != nil || !o.Back || o.Filter.Prefix != "2026/" {
		t.Errorf("%+v, %v", o, err)
	}
	text := j.Sheet(Way{URL: "https://mill.example", Key: "MILL", Region: "coast"}, time.Unix(1_790_000_000, 0))
	for _, want := range []string{"'https://mill.example/kept/it'\\''s/' --key MILL --region coast --to ./recovered",
		m.Salt.String() + " --names", "schedule @daily, UTC"} {
		if !strings.Contains(text, want) {
			t.Errorf("the sheet has no %q:\n%s", want, text)
		}
	}
	if strings.Contains(text, k.Identity()) {
		t.Error("a secret is on the sheet")
	}
	j.To, j.Seals = Place{Folder: "/mnt/disk"}, nil
	if text := j.Sheet(Way{}, time.Now()); !strings.Contains(text, "--from /mnt/disk --to") ||
		strings.Contains(text, "passphrase") {
		t.Errorf("the sheet of a folder:\n%s", text)
	}
}
