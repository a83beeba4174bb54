package attack_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// wholeReads are the places that read all of what somebody else sends: each reads a range of a side,
// of which no more comes than was asked for (side.There), or what is bounded where it begins.
var wholeReads = map[string]bool{"carry/step.go": true, "bodies/place.go": true, "side/sealed.go": true}

var readAll = regexp.MustCompile(`io\.ReadAll\(([^\n]*)`)

// Nothing reads all of a foreign body without a bound: a source that never ends would fill memory.
func TestNothingReadsWithoutABound(t *testing.T) {
	found := 0
	if err := filepath.WalkDir("..", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") {
			return err
		}
		name := strings.TrimPrefix(path, "../")
		for _, tests := range []string{"standin/", "demo/", "harness/", "side/sidetest/", "bodies/bodiestest/"} {
			if strings.HasPrefix(name, tests) {
				return nil
			}
		}
		b, err := os.ReadFile(path)
		for _, m := range readAll.FindAllStringSubmatch(string(b), -1) {
			found++
			if !strings.HasPrefix(m[1], "io.LimitReader(") && !wholeReads[name] {
				t.Errorf("%s reads without a bound: io.ReadAll(%s", name, m[1])
			}
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if found < 10 {
		t.Errorf("only %d such places were found", found)
	}
}
