package service_test

import (
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"spindle/internal/bodies"
	"spindle/internal/core/fault"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/wire/client"
)

// A service whose volume is not mounted starts, says so, refuses what needs it with a time to
// try again, marks nothing damaged, writes nothing where the disk should be, and goes on by
// itself once it is. The same with another volume in its place.
func TestStartsWithoutItsVolume(t *testing.T) {
	url, data := harness.Database(t), t.TempDir()
	share := func(c *service.Config) { c.Database, c.Data = url, data }
	first := harness.Service(t, share)
	c := first.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	small, large := "of a few bytes", strings.Repeat("more than a segment takes ", 20_000)
	for key, body := range map[string]string{"small": small, "large": large} {
		if _, err := c.Put(t.Context(), "plates", key, strings.NewReader(body), int64(len(body)), client.Put{}); err != nil {
			t.Fatal(err)
		}
	}
	if err := first.Stop(t.Context()); err != nil {
		t.Fatal(err)
	}
	disk := filepath.Join(data, "volumes", "main")
	aside := disk + ".aside"
	if err := os.Rename(disk, aside); err != nil {
		t.Fatal(err)
	}
	for name, there := range map[string]func() error{
		"an empty mount point": func() error { return os.Mkdir(disk, 0o700) },
		"another volume":       func() error { return bodies.Prepare(disk, bodies.NewMarker()) },
	} {
		if err := there(); err != nil {
			t.Fatal(err)
		}
		before := filesOf(t, disk)
		s := harness.Service(t, share)
		c := s.Client()
		away := func(what string, err error) {
			t.Helper()
			if fault.KindOf(err) != fault.Unavailable {
				t.Errorf("%s: %s: %v", name, what, err)
			}
		}
		for _, body := range []string{small, large} {
			_, err := c.Put(t.Context(), "plates", "new", strings.NewReader(body), int64(len(body)), client.Put{})
			away("put", err)
		}
		for _, key := range []string{"small", "large"} {
			st, h, b := s.Do("GET", "/plates/"+key, nil, "", true)
			if st != http.StatusServiceUnavailable || h.Get("Retry-After") == "" || !strings.Contains(b, "is away") ||
				strings.Contains(b, data) {
				t.Errorf("%s: get: %d %s %s", name, st, h.Get("Retry-After"), b)
			}
		}
		if p, err := c.List(t.Context(), "plates", "", "", "", 10); err != nil || len(p.Objects) < 2 {
			t.Errorf("%s: the list needs no volume: %v", name, err)
		}
		if damage, err := s.Store.Catalog.Damaged(t.Context(), "", 10); err != nil || len(damage) > 0 {
			t.Errorf("%s: marked as damaged: %v, %v", name, damage, err)
		}
		overview := s.Ask("/api/v1/overview")
		if !strings.Contains(overview, "volume that is away") || !strings.Contains(overview, disk) {
			t.Errorf("%s: the overview is silent: %s", name, overview)
		}
		if after := filesOf(t, disk); len(after) != len(before) {
			t.Errorf("%s: written: %v", name, after)
		}
		if err := os.RemoveAll(disk); err != nil {
			t.Fatal(err)
		}
		if err := os.Rename(aside, disk); err != nil {
			t.Fatal(err)
		}
		for key, body := range map[string]string{"small": small, "large": large} {
			if _, err := c.Put(t.Context(), "plates", "new", strings.NewReader(body), int64(len(body)),
				client.Put{}); err != nil {
				t.Errorf("%s: put, once it is back: %v", name, err)
			}
			g, err := c.Get(t.Context(), "plates", key, "", 0, "")
			if err != nil {
				t.Errorf("%s: %s, once it is back: %v", name, key, err)
				continue
			}
			got, err := io.ReadAll(g.Body)
			g.Body.Close()
			if err != nil || string(got) != body {
				t.Errorf("%s: %s, once it is back: %d bytes, %v", name, key, len(got), err)
			}
		}
		if err := s.Stop(t.Context()); err != nil {
			t.Fatal(err)
		}
		if err := os.Rename(disk, aside); err != nil {
			t.Fatal(err)
		}
	}
}

func filesOf(t *testing.T, dir string) (list []string) {
	t.Helper()
	if err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			list = append(list, path)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	return list
}

// A service starts on a disk that takes no writes: reads go on, writes are refused with the remedy,
// the overview says so, and with the disk writable it goes on by itself.
func TestStartsOnAReadOnlyDisk(t *testing.T) {
	url, data := harness.Database(t), t.TempDir()
	disk := filepath.Join(data, "volumes", "main")
	if err := os.MkdirAll(disk, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mount("tmpfs", disk, "tmpfs", 0, "size=20m"); err != nil {
		t.Skipf("a disk cannot be mounted here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(disk, syscall.MNT_DETACH) })
	share := func(c *service.Config) { c.Database, c.Data = url, data }
	first := harness.Service(t, share)
	c := first.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	put := func(c *client.Client, key string) error {
		_, err := c.Put(t.Context(), "plates", key, strings.NewReader("pressed"), 7, client.Put{})
		return err
	}
	if err := put(c, "before"); err != nil {
		t.Fatal(err)
	}
	if err := first.Stop(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mount("tmpfs", disk, "tmpfs", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""); err != nil {
		t.Fatal(err)
	}
	s := harness.Service(t, share)
	c = s.Client()
	if st, _, b := s.Do("GET", "/plates/before", nil, "", true); st != http.StatusOK || b != "pressed" {
		t.Errorf("reads: %d %s", st, b)
	}
	st, h, b := s.Do("PUT", "/plates/during", nil, "pressed", true)
	if st != http.StatusServiceUnavailable || h.Get("Retry-After") == "" || !strings.Contains(b, "read-only") {
		t.Errorf("writes: %d %s %s", st, h.Get("Retry-After"), b)
	}
	if strings.Contains(b, data) {
		t.Errorf("a client is told of the directory: %s", b)
	}
	harness.Until(t, "the overview tells of it", func() bool {
		return strings.Contains(s.Ask("/api/v1/overview"), "mounted read-only")
	})
	if err := syscall.Mount("tmpfs", disk, "tmpfs", syscall.MS_REMOUNT, "size=20m"); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "it goes on by itself", func() bool { return put(c, "after") == nil })
}
