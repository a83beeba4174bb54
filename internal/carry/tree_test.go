package carry_test

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"spindle/internal/carry"
	"spindle/internal/core/sealing"
	"spindle/internal/core/syncing"
	"spindle/internal/harness"
	"spindle/internal/side"
)

// tree reads a folder: the content of each file, and what each link leads to.
func tree(t *testing.T, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	if err := filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		name := strings.TrimPrefix(path, dir+"/")
		switch {
		case err != nil || e.IsDir():
			return err
		case e.Type()&fs.ModeSymlink != 0:
			to, err := os.Readlink(path)
			out[name] = "link " + to
			return err
		}
		b, err := os.ReadFile(path)
		out[name] = "file " + string(b)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	return out
}

// anyTree makes a folder of files with any names that a disk takes, of sizes around those at
// which things are cut, and of links with any text.
func anyTree(t *testing.T, rnd *rand.Rand) string {
	t.Helper()
	dir := t.TempDir()
	name := func(n int) string {
		pools := []string{"abc", "äöü日本\u0308", "a\xff\xfe\x80b", " .-~%=?", "a\n\tb\x01"}
		pool := pools[rnd.IntN(len(pools))]
		var b strings.Builder
		for range n {
			b.WriteByte(pool[rnd.IntN(len(pool))])
		}
		return b.String()
	}
	const chunk = 64 << 10
	sizes := []int{0, 1, 100, chunk - 1, chunk, chunk + 1, 2*chunk + 7}
	for i := range 40 {
		parts := []string{fmt.Sprint(i, name(rnd.IntN(20)))}
		for range rnd.IntN(3) {
			parts = append(parts, fmt.Sprint("d", name(rnd.IntN(8))))
		}
		path := dir + "/" + strings.Join(parts, "/")
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if rnd.IntN(5) == 0 {
			to := fmt.Sprint("x", name(rnd.IntN(12)), " ")
			if err := os.Symlink(to, path); err != nil {
				t.Fatal(err)
			}
			continue
		}
		body := bytes.Repeat([]byte{byte(i), 'x'}, sizes[rnd.IntN(len(sizes))]/2+1)
		if err := os.WriteFile(path, body, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// Any tree, sealed or not, comes back as it was, or each exception is told of as failed.
func TestAnyTreeComesBack(t *testing.T) {
	keys, err := sealing.Derive("a passphrase of this test", sealing.Salt{1, 2, 3})
	if err != nil {
		t.Fatal(err)
	}
	for _, seed := range harness.Seeds(t, 6) {
		for _, how := range []string{"plain", "contents", "names"} {
			t.Run(fmt.Sprint(how, " ", seed), func(t *testing.T) {
				dir := anyTree(t, rand.New(rand.NewPCG(seed, 5)))
				at, back := t.TempDir(), t.TempDir()
				held := func() side.Side {
					of := &side.Folder{Dir: at, Links: side.KeepLinks}
					if how == "plain" {
						return of
					}
					return &side.Sealed{Of: of, Keys: keys, Names: how == "names"}
				}
				failed := map[string]bool{}
				var mu sync.Mutex
				for _, leg := range [][2]side.Side{{&side.Folder{Dir: dir, Links: side.KeepLinks}, held()},
					{held(), &side.Folder{Dir: back, Links: side.KeepLinks}}} {
					j := &carry.Job{From: leg[0], To: leg[1], Guard: open,
						Options: syncing.Options{Mode: syncing.Accumulate, By: syncing.ByTime}}
					j.Tell = func(_ context.Context, o carry.Outcome) {
						mu.Lock()
						defer mu.Unlock()
						if o.Err != nil {
							failed[o.Key] = true
						}
					}
					if r := run(t, j); r.Failed != 0 && len(failed) == 0 {
						t.Errorf("%+v, and nothing was told", r)
					}
				}
				was, is := tree(t, dir), tree(t, back)
				for name, want := range was {
					if got, ok := is[name]; !failed[name] && (!ok || got != want) {
						t.Errorf("%q came back as %.40q (%v), and was %.40q", name, got, ok, want)
					}
				}
				for name := range is {
					if _, ok := was[name]; !ok {
						t.Errorf("%q came back, and was not there", name)
					}
				}
				if len(failed) > len(was)/2 {
					t.Errorf("%d of %d failed: %v", len(failed), len(was), failed)
				}
			})
		}
	}
}
