package pattern

import "testing"

func TestPatterns(t *testing.T) {
	for _, x := range []struct {
		pattern, key string
		want         bool
	}{
		{"*.tif", "plates/2019/a.tif", true}, {"*.tif", "a.tif.txt", false}, {"plates/?/x", "plates/é/x", true},
		{"plates/?/x", "plates/ab/x", false}, {`a\*b`, "a*b", true}, {`a\*b`, "axb", false}, {"a%_b", "a%_b", true},
		{"a%_b", "axxb", false}, {"*a*b*c*", "xxaxbxxcbc", true}, {"*a*b*c", "xxaxbxxcb", false}, {"**", "", true},
		{"?", "", false}, {"*?", "x", true}, {`\\`, `\`, true},
	} {
		p, err := Parse(x.pattern)
		if err != nil || p.Match(x.key) != x.want {
			t.Errorf("%q on %q: %v, %v", x.pattern, x.key, p.Match(x.key), err)
		}
	}
	if p, _ := Parse(`10%*?\*_`); p.Like() != `10\%%_*\_` {
		t.Errorf("as LIKE: %s", p.Like())
	}
}
