package service_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/harness"
	"spindle/internal/postgres"
	"spindle/internal/wire/client"
)

// The lines of "When something is wrong" in docs/operations.md, each with its real fault and the outcome that the
// line promises.

// press starts a service with a tier in pieces on three directories, and a bucket in it.
func press(t *testing.T, pieces string, n int) (*process, []string) {
	t.Helper()
	p := &process{t: t, bin: harness.Binary(t), data: dataDir(t)}
	if err := p.start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = p.cmd.Process.Signal(syscall.SIGTERM); _ = p.cmd.Wait() })
	add, dirs := []string{"tier", "add", "press", "--pieces", pieces}, []string{}
	for i := range n {
		dirs = append(dirs, filepath.Join(p.data, fmt.Sprint("press-", i+1)))
		add = append(add, "--volume", dirs[i])
	}
	p.command(add...)
	p.command("bucket", "create", "plates", "--tier", "press")
	return p, dirs
}

// putMany writes objects, whose content follows from their number.
func putMany(t *testing.T, c *client.Client, from, to int) {
	t.Helper()
	for i := from; i < to; i++ {
		b := bodyOf(i)
		if _, err := c.Put(t.Context(), "plates", fmt.Sprintf("k/%04d", i), bytes.NewReader(b), int64(len(b)),
			client.Put{}); err != nil {
			t.Fatal(err)
		}
	}
}

func bodyOf(i int) []byte { return bytes.Repeat([]byte(fmt.Sprintf("body %06d ", i)), 3000+i) }

// allRead reads them all, and compares.
func allRead(t *testing.T, c *client.Client, n int) {
	t.Helper()
	for i := range n {
		o, err := c.Get(t.Context(), "plates", fmt.Sprintf("k/%04d", i), "", 0, "")
		if err != nil {
			t.Fatalf("object %d: %v", i, err)
		}
		var b bytes.Buffer
		_, err = b.ReadFrom(o.Body)
		o.Body.Close()
		if err != nil || !bytes.Equal(b.Bytes(), bodyOf(i)) {
			t.Fatalf("object %d is not what was written: %v", i, err)
		}
	}
}

func (p *process) tier(name string) (x api.TierInfo) {
	p.t.Helper()
	if err := json.Unmarshal([]byte(p.command("tier", "show", name, "--json")), &x); err != nil {
		p.t.Fatal(err)
	}
	return x
}

// refuses fails unless a command is refused with some words.
func (p *process) refuses(words string, args ...string) {
	p.t.Helper()
	if out, err := p.try(args...); err == nil || !strings.Contains(out, words) {
		p.t.Errorf("%v: %v %s; want %q", args, err, out, words)
	}
}

// A disk of a tier in pieces dies; what is written after it is owed. It is taken out for a new one, in the same place
// too, the service is killed in the middle of the repair, and afterwards another disk may be lost.
func TestADeadVolumeIsTakenOut(t *testing.T) {
	t.Parallel()
	p, dirs := press(t, "2+1", 3)
	c := p.client()
	putMany(t, c, 0, 150)
	dies := func(dir string) {
		t.Helper()
		if err := os.Rename(dir, dir+".dead"); err != nil {
			t.Fatal(err)
		}
	}
	dies(dirs[1])
	putMany(t, c, 150, 250)
	if x := p.tier("press"); x.Owed != 100 {
		t.Errorf("%d bodies are owed pieces", x.Owed)
	}
	p.refuses("another volume of the tier is away", "tier", "change", "press", "--without", dirs[0], "--volume",
		dirs[0]+"-new")
	p.refuses("need not be given up", "tier", "change", "press", "--without", dirs[0], "--give-up", "--volume",
		dirs[0]+"-new")
	p.command("tier", "change", "press", "--without", dirs[1], "--volume", dirs[1])
	time.Sleep(200 * time.Millisecond)
	_ = p.cmd.Process.Kill()
	_ = p.cmd.Wait()
	if err := p.start(); err != nil {
		t.Fatal(err)
	}
	c = p.client()
	putMany(t, c, 250, 260)
	harness.Until(t, "the tier is whole", func() bool {
		x := p.tier("press")
		return x.Owed == 0 && x.Repair != nil && x.Repair.Finished != nil
	})
	dies(dirs[0])
	allRead(t, c, 260)

	// Bodies that were written while two were missing depend on the one that is away.
	p2, dirs := press(t, "2+2", 4)
	c = p2.client()
	putMany(t, c, 0, 5)
	dies(dirs[3])
	dies(dirs[2])
	putMany(t, c, 5, 10)
	if err := os.Rename(dirs[2]+".dead", dirs[2]); err != nil {
		t.Fatal(err)
	}
	dies(dirs[1]) // on which half of what the last five have is
	p2.refuses("5 bodies that were written while volumes were missing", "tier", "change", "press", "--without", dirs[1],
		"--without", dirs[3], "--volume", dirs[1]+"-new", "--volume", dirs[3]+"-new")
	if err := os.Rename(dirs[1]+".dead", dirs[1]); err != nil {
		t.Fatal(err)
	}
	p2.command("tier", "change", "press", "--without", dirs[3], "--volume", dirs[3]+"-new")
	harness.Until(t, "the tier is whole", func() bool {
		x := p2.tier("press")
		return x.Owed == 0 && x.Repair != nil && x.Repair.Finished != nil
	})
	dies(dirs[0])
	dies(dirs[1])
	allRead(t, c, 10)
}

// The disk of one volume refuses writes and its pieces are gone: the scrubber calls nothing damaged, all is read,
// the service starts and takes what is new; once the disk takes writes again all is made whole.
func TestADiskThatTakesNoWrites(t *testing.T) {
	t.Parallel()
	p, dirs := press(t, "2+1", 3)
	c := p.client()
	putMany(t, c, 0, 20)
	pieces, err := filepath.Glob(filepath.Join(dirs[1], "whole", "*", "*.body"))
	if err != nil || len(pieces) != 20 {
		t.Fatalf("%d pieces, %v", len(pieces), err)
	}
	for _, f := range pieces {
		if err := os.Remove(f); err != nil {
			t.Fatal(err)
		}
	}
	readOnly(t, dirs[1])
	if out, err := p.try("scrub", "run", "plates"); err != nil || strings.Contains(out, "damaged") &&
		!strings.Contains(out, "0 damaged") {
		t.Errorf("scrubbed: %v %s", err, out)
	}
	allRead(t, c, 20)
	_ = p.cmd.Process.Kill()
	_ = p.cmd.Wait()
	if err := p.start(); err != nil {
		t.Fatal(err)
	}
	c = p.client()
	allRead(t, c, 20)
	putMany(t, c, 20, 30)
	if x := p.tier("press"); x.Owed != 30 {
		t.Errorf("%d bodies are owed pieces", x.Owed)
	}
	writable(t, dirs[1])
	for end := time.Now().Add(3 * time.Minute); p.tier("press").Owed > 0; time.Sleep(100 * time.Millisecond) {
		if time.Now().After(end) { // it is tried again each minute
			t.Fatal("what is owed is not made")
		}
	}
	if err := os.Rename(dirs[0], dirs[0]+".dead"); err != nil {
		t.Fatal(err)
	}
	allRead(t, c, 30)
}

// readiness asks the process whether it is ready.
func (p *process) readiness() (int, string) {
	p.t.Helper()
	r, err := http.Get(p.desk + "/readyz")
	if err != nil {
		p.t.Fatal(err)
	}
	defer r.Body.Close()
	said, err := io.ReadAll(r.Body)
	if err != nil {
		p.t.Fatal(err)
	}
	return r.StatusCode, string(said)
}

// readOnly has a directory take no writes, as the system does to a disk with errors.
func readOnly(t *testing.T, dir string) {
	t.Helper()
	if err := unix.Mount(dir, dir, "", unix.MS_BIND, ""); err != nil {
		t.Skipf("nothing can be mounted here: %v", err)
	}
	t.Cleanup(func() { _ = unix.Unmount(dir, unix.MNT_DETACH) })
	if err := unix.Mount("", dir, "", unix.MS_BIND|unix.MS_REMOUNT|unix.MS_RDONLY, ""); err != nil {
		t.Fatal(err)
	}
}

// writable ends readOnly.
func writable(t *testing.T, dir string) {
	t.Helper()
	if err := unix.Mount("", dir, "", unix.MS_BIND|unix.MS_REMOUNT, ""); err != nil {
		t.Fatal(err)
	}
}

// The system turned a disk read-only, that of main's volume or that of the whole data directory: the service starts,
// says so, reads, and takes writes once the disk does.
func TestStartsOnADiskThatTakesNoWrites(t *testing.T) {
	t.Parallel()
	for _, beneath := range []string{"volumes/main", "volumes", "."} {
		t.Run(beneath, func(t *testing.T) {
			t.Parallel()
			p := &process{t: t, bin: harness.Binary(t), data: dataDir(t)}
			var flags []string
			if beneath == "." { // or its database could not start either
				flags = []string{"--database", harness.Database(t)}
			}
			if err := p.start(flags...); err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { _ = p.cmd.Process.Signal(syscall.SIGTERM); _ = p.cmd.Wait() })
			p.command("bucket", "create", "plates")
			putMany(t, p.client(), 0, 10)
			_ = p.cmd.Process.Kill()
			_ = p.cmd.Wait()
			disk := filepath.Join(p.data, beneath)
			readOnly(t, disk)
			if err := p.start(flags...); err != nil {
				t.Fatal(err)
			}
			c := p.client()
			allRead(t, c, 10)
			_, err := c.Put(t.Context(), "plates", "new", strings.NewReader("x"), 1, client.Put{})
			if fault.KindOf(err) != fault.Unavailable {
				t.Errorf("a put: %v", err)
			}
			if st, said := p.readiness(); st != http.StatusServiceUnavailable || !strings.Contains(said, "read-only") {
				t.Errorf("readiness: %d %s", st, said)
			}
			writable(t, disk)
			harness.Until(t, "it takes writes", func() bool {
				_, err := c.Put(t.Context(), "plates", "new", strings.NewReader("x"), 1, client.Put{})
				return err == nil
			})
		})
	}
}

// Everything is on one disk, or the database on one of its own, which another program fills to the last byte: what
// frees goes on, the database lives, readiness and overview say it, and there is room again after removals, or once the
// other program has made some.
func TestAFullDiskIsEmptied(t *testing.T) {
	for _, beneath := range []string{".", "postgres"} {
		t.Run(beneath, func(t *testing.T) {
			t.Parallel()
			fullDisk(t, beneath)
		})
	}
}

// The disk of a database that is not the service's own is full: puts are refused as finding no room and readiness says
// it, what reads goes on, and puts do once there is room.
func TestTheDiskOfAnotherDatabaseIsFull(t *testing.T) {
	t.Parallel()
	disk := filepath.Join(filepath.Dir(dataDir(t)), "elsewhere")
	if err := os.Mkdir(disk, 0o711); err != nil {
		t.Fatal(err)
	}
	if err := unix.Mount("tmpfs", disk, "tmpfs", 0, "size=260m,mode=0711"); err != nil {
		t.Skipf("nothing can be mounted here: %v", err)
	}
	t.Cleanup(func() { _ = unix.Unmount(disk, unix.MNT_DETACH) })
	db, err := postgres.Start(t.Context(), filepath.Join(disk, "postgres"), harness.Silent())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(db.Stop)
	p := running(t, "--database", db.URL("postgres"))
	c := p.client()
	putMany(t, c, 0, 5)
	other := filepath.Join(disk, "of another program")
	fill(t, other)
	put := func(n int) error {
		_, err := c.Put(t.Context(), "plates", fmt.Sprintf("n/%06d", n), strings.NewReader("small"), 5, client.Put{})
		return err
	}
	n := 0
	harness.Until(t, "a put finds no room", func() bool { n++; return fault.KindOf(put(n)) == fault.Full })
	harness.Until(t, "readiness says it", func() bool {
		st, said := p.readiness()
		return st == http.StatusServiceUnavailable && (strings.Contains(said, "full") || strings.Contains(said, "no room"))
	})
	allRead(t, c, 5)
	if err := os.Remove(other); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "there is room again", func() bool { return put(n) == nil })
	allRead(t, c, 5)
}

func fullDisk(t *testing.T, beneath string) {
	p := &process{t: t, bin: harness.Binary(t), data: dataDir(t)}
	disk, size := filepath.Join(p.data, beneath), "size=420m,mode=0711"
	if err := os.MkdirAll(disk, 0o711); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(disk, 0o711); err != nil {
		t.Fatal(err)
	}
	if err := unix.Mount("tmpfs", disk, "tmpfs", 0, size); err != nil {
		t.Skipf("nothing can be mounted here: %v", err)
	}
	t.Cleanup(func() { _ = unix.Unmount(disk, unix.MNT_DETACH) })
	if err := p.start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = p.cmd.Process.Signal(syscall.SIGTERM); _ = p.cmd.Wait() })
	p.command("bucket", "create", "small", "--versioning", "on") // a removal there takes room in the database
	p.command("bucket", "create", "large")
	c := p.client()
	put := func(bucket string, n, size int) error {
		_, err := c.Put(t.Context(), bucket, fmt.Sprintf("k/%05d", n), bytes.NewReader(make([]byte, size)), int64(size),
			client.Put{})
		return err
	}
	const small, large = 3000, 25
	var all errgroup.Group
	all.SetLimit(16)
	for i := range small {
		all.Go(func() error { return put("small", i, 300) })
	}
	if err := all.Wait(); err != nil {
		t.Fatal(err)
	}
	for i := range large {
		if err := put("large", i, 8<<20); err != nil {
			t.Fatal(err)
		}
	}
	other := filepath.Join(disk, "of another program")
	fill(t, other)
	harness.Until(t, "a put finds no room", func() bool { return fault.KindOf(put("small", small, 300)) == fault.Full })
	p.command("object", "list", "large") // what reads goes on
	harness.Until(t, "readiness says it", func() bool {
		st, said := p.readiness()
		return st == http.StatusServiceUnavailable && (strings.Contains(said, "full") || strings.Contains(said, "no room"))
	})
	for i := range small {
		all.Go(func() error { return c.Remove(t.Context(), "small", fmt.Sprintf("k/%05d", i)) })
	}
	if err := all.Wait(); err != nil {
		t.Fatalf("a removal: %v", err)
	}
	for i := range large {
		if err := c.Remove(t.Context(), "large", fmt.Sprintf("k/%05d", i)); err != nil {
			t.Fatalf("removal %d: %v", i, err)
		}
	}
	if beneath != "." { // removals free nothing on the database's own disk
		if err := os.Remove(other); err != nil {
			t.Fatal(err)
		}
	}
	harness.Until(t, "there is room again", func() bool { return put("large", large, 8<<20) == nil })
	if out := p.errs.String(); strings.Contains(out, "PANIC") {
		t.Errorf("the database broke: %.2000s", out)
	}
}

// fill takes all the room of a disk.
func fill(t *testing.T, path string) {
	t.Helper()
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	// Nearly all at once: while another program goes on filling, it takes the service's reserve too.
	var disk unix.Statfs_t
	if err := unix.Fstatfs(int(f.Fd()), &disk); err != nil {
		t.Fatal(err)
	}
	if all := int64(disk.Bavail) * disk.Bsize; unix.Fallocate(int(f.Fd()), 0, 0, all) == nil {
		_, err = f.Seek(all, io.SeekStart)
	}
	for size := 1 << 20; size >= 512; size /= 4 {
		for err == nil {
			_, err = f.Write(make([]byte, size))
		}
		err = nil
	}
}
