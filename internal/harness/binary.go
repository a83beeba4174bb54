package harness

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

// binaries are programs that tests of this process built, by the flags they were built with.
var binaries struct {
	mu  sync.Mutex
	dir string
	of  map[string]string
}

// Binary gives the program, built with some flags: once for all tests of a package. That of SPINDLE_BIN is taken, which
// make test builds before, when there are no flags.
func Binary(t testing.TB, flags ...string) string {
	t.Helper()
	if bin := os.Getenv("SPINDLE_BIN"); bin != "" && len(flags) == 0 {
		return bin
	}
	b := &binaries
	b.mu.Lock()
	defer b.mu.Unlock()
	key := strings.Join(flags, " ")
	if bin, ok := b.of[key]; ok {
		return bin
	}
	if b.dir == "" {
		dir, err := os.MkdirTemp("", "spindle-bin-")
		if err != nil {
			t.Fatal(err)
		}
		b.dir, b.of = dir, map[string]string{}
	}
	bin := filepath.Join(b.dir, "spindle-"+string(rune('a'+len(b.of))))
	args := append([]string{"build", "-o", bin}, flags...)
	if out, err := exec.Command("go", append(args, "spindle/cmd/spindle")...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	b.of[key] = bin
	return bin
}

// removeBinaries takes away what was built.
func removeBinaries() {
	if binaries.dir != "" {
		os.RemoveAll(binaries.dir)
	}
}
