package query

import (
	"strings"
	"testing"
	"time"

	"spindle/internal/core/fault"
)

var now = time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)

func parse(t *testing.T, s string) Expr {
	t.Helper()
	x, err := Parse(s, now)
	if err != nil {
		t.Fatalf("%s: %v", s, err)
	}
	return x
}

var sheet = Object{Bucket: "plates", Key: "plates/2026/FH 01.tif", Type: "image/tiff", Tier: "main",
	Writer: "scanner-2", MD5: "00ff",
	Size: 10 << 20, Changed: now.Add(-48 * time.Hour), Current: true, Replication: []string{"completed", "failed"},
	Metadata: map[string]string{"taxon": "Drosera rotundifolia", "dpi": "600", "and": "yes", "ratio": "-1.50",
		"odd": "12px"},
	Tags: map[string]string{"kind": "scan", "Empty": ""}}

func TestHolds(t *testing.T) {
	for s, want := range map[string]bool{
		"bucket is plates": true, "bucket is not plates": false, "bucket is one of attic, plates": true,
		"bucket is not one of attic, plates": false, `key begins with "plates/2026/"`: true, "key ends with .tif": true,
		"key contains FH": true, `key like "*/FH ?1.tif"`: true, "key not like *.txt": true, "type is image/tiff": true,
		"size is 10 MiB": true, "size over 10MiB": false, "size at least 10485760": true, "size between 1 MB and 20 MB": true,
		"age over 1d": true, "age under 36h": false, "age at most 2d": true, "age over 1.5 days and age under 1 week": true,
		"changed before 2026-11-26": true,
		"changed before 2026-11-25": false, "changed after 2026-11-25": false, "changed after 2026-11-24": true,
		"changed on 2026-11-25": true, "changed after 3d ago": true, "changed before 3d": false,
		"changed between 2026-11-01 and 2026-11-26": true, "changed after 2026-11-25 11:59": true,
		"sealed": false, "not sealed": true, "sealed is no": true, "current": true, "replication is failed": true,
		"replication is pending": false, "field taxon begins with Drosera": true, "field TAXON contains rotundi": true,
		"field dpi over 599.5": true, "field dpi between 1 and 600": true, "field odd over 1": false,
		"field ratio under -1": true,
		"field missing is x":   false, "field missing is not x": true, "has field dpi": true, "lacks field missing": true,
		"lacks tag kind": false, "tag Empty is \"\"": true, "tag empty is \"\"": false, `field "and" is yes`: true,
		"size over 1 and (size over 100 GiB or tag kind is scan) and not tag kind is print": true,
		"size over 100 GiB and size over 1 or current":                                      true,
		"size over 100 GiB and (size over 1 or current)":                                    false,
		"NOT (Size Over 1 AND current)":                                                     false, "not not current": true,
	} {
		x := parse(t, s)
		if got := Holds(x, sheet, now); got != want {
			t.Errorf("%s: %v", s, got)
		}
		again := parse(t, x.String())
		if again.String() != x.String() || Holds(again, sheet, now) != want {
			t.Errorf("%s is printed %s, and that %s", s, x, again)
		}
	}
}

// What is wrong is told with where and, where it can be, with what was meant.
func TestErrors(t *testing.T) {
	for s, want := range map[string]struct {
		at   int
		says string
	}{
		"": {0, "empty"}, "siz over 10": {0, "did you mean size?"}, "taxon is Drosera": {0, "field taxon"},
		"size over": {9, "missing"}, "size over ten": {10, "no size"}, "size like x": {5, "over"},
		"key over 5":              {4, "begins with"},
		"size over 1 size over 2": {12, "and, or"}, "(size over 1": {12, "never closed"}, `key is "a`: {7, "never closed"},
		"key is and": {7, "quotation marks"}, "field is x": {6, "comes a name"}, "has size": {8, "every object"},
		"replication is fine": {15, "pending"}, "changed before soon": {15, "no moment"}, "changed on now": {11, "no day"},
		"size between 5 and 1": {13, "turn them round"}, "size between 5 or 1": {15, "with and between"},
		"age over 5 parsecs":  {9, "30 days"},
		"field dpi over many": {15, "no number"}, "key like \"x\\\\\"": {9, "\\"}, "size over 1)": {11, "and, or"},
		"key is \x01":    {7, "no place"},
		"bucket is a, b": {11, "and, or"}, strings.Repeat("(", 40) + "current": {31, "deep"}, strings.Repeat("not ", 40) +
			"current": {124, "deep"},
		strings.Repeat("current or ", MaxTests) + "current":          {11 * MaxTests, "more than"},
		strings.Repeat("x", MaxLength+1):                             {MaxLength, "allowed"},
		"bucket is one of " + strings.Repeat("a, ", MaxValues) + "b": {17 + 3*MaxValues, "more than"},
		"key is \xff": {0, "UTF-8"},
	} {
		_, err := Parse(s, now)
		f := fault.From(err)
		if !fault.HasCode(err, "query") || f.At == nil || *f.At != want.at ||
			!strings.Contains(f.Message+" "+f.Remedy, want.says) {
			at := -1
			if f != nil && f.At != nil {
				at = *f.At
			}
			t.Errorf("%.60q: at %d, %v, %s", s, at, err, f.Remedy)
		}
	}
}

func TestWhatItAsksAbout(t *testing.T) {
	x := parse(t, `bucket is plates and key begins with "a/b" and key begins with a and (field x is 1 or field X is 2 or tag y is 3)`)
	if m, tags := Fields(x); len(m) != 1 || m[0] != "x" || len(tags) != 1 || tags[0] != "y" {
		t.Errorf("%v, %v", m, tags)
	}
	if is, begins := Must(x, "key"); is != "" || begins != "a/b" {
		t.Errorf("keys begin with %q, are %q", begins, is)
	}
	if is, _ := Must(x, "bucket"); is != "plates" {
		t.Errorf("the bucket is %q", is)
	}
	if _, begins := Must(parse(t, "key begins with a or current"), "key"); begins != "" {
		t.Errorf("not all begin with %q", begins)
	}
}

// Scopes ask for what stays as it is; moments in them do too.
func TestScopes(t *testing.T) {
	s, err := ParseScope("changed before 7d ago and not field taxon is Drosera", now, Lasting)
	if err != nil {
		t.Fatal(err)
	}
	again, err := ParseScope(s.String(), now.AddDate(1, 0, 0), Lasting)
	old := Object{Changed: now.AddDate(0, 0, -8)}
	if err != nil || again.String() != s.String() || !again.Holds(old) || again.Holds(Object{Changed: now}) {
		t.Errorf("%s, a year later %s, %v", s, again, err)
	}
	if old.Metadata = map[string]string{"taxon": "Drosera"}; s.Holds(old) {
		t.Errorf("%s holds of %v", s, old)
	}
	if all, err := ParseScope("  ", now, Lasting); err != nil || !all.All() || !all.Holds(old) || all.String() != "" {
		t.Errorf("of nothing: %+v, %v", all, err)
	}
	for _, bad := range []string{"age over 9d", "size over 1 and current", "replication is failed", "bucket is plates",
		"not sealed", "size ovr 1"} {
		if _, err := ParseScope(bad, now, Lasting); !fault.HasCode(err, "query") {
			t.Errorf("%s: %v", bad, err)
		}
	}
}

// Whatever is read is printed so that it is read as the same.
func FuzzPrintAndParse(f *testing.F) {
	for _, s := range []string{"size over 10 MiB and not (a or b)", `field "size" is "a \"b\" \\c"`,
		"age between 1s and 2.5h or sealed",
		"changed after 2026-11-20 and key like *.t?f", "not not lacks tag x", "bucket is not one of a, b, c", "((current))",
		"changed on 2026-01-31 and field ratio at most -0.000001"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		x, err := Parse(s, now)
		if err != nil {
			if at := fault.From(err).At; at == nil || *at < 0 || *at > len(s) {
				t.Fatalf("%q: %v is nowhere", s, err)
			}
			return
		}
		text := x.String()
		y, err := Parse(text, now)
		if err != nil && len(text) <= MaxLength {
			t.Fatalf("%q is printed %q: %v", s, text, err)
		}
		if err == nil && (y.String() != text || Holds(x, sheet, now) != Holds(y, sheet, now)) {
			t.Fatalf("%q is printed %q, and that %q", s, text, y)
		}
	})
}
