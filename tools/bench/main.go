// Command bench measures the service against the limits of the machine it runs
// on, in one run: plain file copies, MD5 alone, raw inserts into the same
// PostgreSQL, and a static file server in the same language. It prints ratios.
//
// The service runs in a process of its own with its private database; so does
// the static server. The load comes from this process and shares the cores.
package main

import (
	"bufio"
	"crypto/md5"
	"database/sql"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"spindle/internal/wire/sign"
)

var cred = sign.Credential{ID: "BENCHOWNER", Secret: "measure-twice-cut-once"}

const (
	gib     = 1 << 30
	small   = 4 << 10
	clients = 32
)

func main() {
	static := flag.String("static", "", "serve this folder instead, for the comparison")
	dir := flag.String("dir", "", "where to put the data; default a temporary folder")
	var names []string
	for _, p := range parts {
		names = append(names, p.name)
	}
	only := flag.String("only", "", "run only the parts named, with commas between them: "+strings.Join(names, ", "))
	seconds := flag.Int("seconds", 3, "how long each rate is measured")
	flag.Parse()
	if *static != "" {
		log.Fatal(serveStatic(*static))
	}
	if err := run(*dir, *only, time.Duration(*seconds)*time.Second); err != nil {
		log.Fatal(err)
	}
}

func serveStatic(dir string) error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Println("http://" + l.Addr().String())
	return http.Serve(l, http.FileServer(http.Dir(dir)))
}

type bench struct {
	dir, wire, desk, static string
	database                string
	service                 *exec.Cmd
	db                      *sql.DB
	span                    time.Duration
	rows                    [][]string
}

func (b *bench) row(what, got, against, wanted string) {
	fmt.Printf("%-46s %-16s %-44s %s\n", what, got, against, wanted)
	b.rows = append(b.rows, []string{what, got, against, wanted})
}

// parts are what is measured, in this order, each by a service of its own with nothing in it: what
// one leaves behind, in memory, on the disk or to be done, weighs on no other.
var parts = []struct {
	name string
	run  func(*bench) error
}{{"large", (*bench).large}, {"put", (*bench).puts}, {"get", (*bench).gets}, {"list", (*bench).list},
	{"versions", (*bench).versions}, {"uploads", (*bench).uploads}, {"orders", (*bench).orders},
	{"access", (*bench).access}, {"sealed", (*bench).sealed}, {"lifecycle", (*bench).lifecycle},
	{"replication", (*bench).replication}, {"sync", (*bench).syncs}, {"find", (*bench).find},
	{"pieces", (*bench).pieces}, {"charters", (*bench).charters}, {"memory", (*bench).memory}}

func run(dir, only string, span time.Duration) error {
	if dir == "" {
		tmp, err := os.MkdirTemp("", "spindle-bench-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(tmp)
		dir = tmp
	}
	if err := os.Chmod(dir, 0o711); err != nil {
		return err
	}
	fmt.Printf("%d cores, %s, %s\n\n", runtime.NumCPU(), runtime.Version(), kernel())
	fmt.Printf("%-46s %-16s %-44s %s\n", "what", "reached", "against", "wanted")
	b := &bench{span: span}
	for _, part := range parts {
		if only != "" && !slices.Contains(strings.Split(only, ","), part.name) {
			continue
		}
		b.dir = filepath.Join(dir, part.name)
		if err := b.part(part.run); err != nil {
			return fmt.Errorf("%s: %w", part.name, err)
		}
	}
	fmt.Println("\n| what | reached | against | wanted |\n| --- | --- | --- | --- |")
	for _, r := range b.rows {
		fmt.Printf("| %s |\n", strings.Join(r, " | "))
	}
	return nil
}

// part runs a part with a service of its own, and removes all that it left.
func (b *bench) part(run func(*bench) error) error {
	if err := os.MkdirAll(b.dir, 0o711); err != nil {
		return err
	}
	defer os.RemoveAll(b.dir)
	stop, err := b.start()
	if err != nil {
		return err
	}
	defer stop()
	if st, err := b.request(http.MethodPut, "/bench", nil, 0); err != nil || st != 200 {
		return fmt.Errorf("creating a bucket: %d, %v", st, err)
	}
	return run(b)
}

func kernel() string {
	out, err := exec.Command("uname", "-sr").Output()
	if err != nil {
		return "unknown kernel"
	}
	return strings.TrimSpace(string(out))
}

// child starts a process and gives its first line of output.
func child(cmd *exec.Cmd) (string, error) {
	cmd.Stderr = os.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return "", err
	}
	if err := cmd.Start(); err != nil {
		return "", err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	return strings.TrimSpace(line), err
}

func (b *bench) start() (stop func(), err error) {
	runtime.LockOSThread() // children live as long as this thread
	b.service = exec.Command("bin/spindle", "serve", "--data", filepath.Join(b.dir, "data"), "--wire", "127.0.0.1:0",
		"--desk", "127.0.0.1:0", "--log-level", "error", "--scrub-every", "1000h", "--lifecycle-rate",
		"1000000", "--guard", "100", "--reach", "loopback")
	b.service.Env = append(os.Environ(), "SPINDLE_OWNER_KEY="+cred.ID, "SPINDLE_OWNER_SECRET="+cred.Secret)
	line, err := child(b.service)
	if err != nil {
		return nil, err
	}
	var desk string
	b.wire, desk, _ = strings.Cut(strings.TrimPrefix(line, "ready: wire http://"), ", ")
	b.desk = strings.TrimPrefix(desk, "desk http://")
	files := filepath.Join(b.dir, "static")
	if err := os.MkdirAll(files, 0o755); err != nil {
		return nil, err
	}
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	st := exec.Command(self, "-static", files)
	if b.static, err = child(st); err != nil {
		return nil, err
	}
	b.static = strings.TrimPrefix(b.static, "http://")
	b.database = "postgres://spindle@/postgres?host=" + filepath.Join(b.dir, "data", "postgres", "run") +
		"&sslmode=disable"
	if b.db, err = sql.Open("pgx", b.database); err != nil {
		return nil, err
	}
	b.db.SetMaxOpenConns(clients)
	b.db.SetMaxIdleConns(clients)
	return func() {
		b.db.Close()
		_ = b.service.Process.Signal(syscall.SIGTERM)
		_ = b.service.Wait()
		_ = st.Process.Kill()
		_ = st.Wait()
	}, nil
}

func (b *bench) request(method, path string, body io.Reader, size int64) (int, error) {
	c, err := dial(b.wire, true)
	if err != nil {
		return 0, err
	}
	defer c.c.Close()
	st, _, err := c.do(method, path, body, size)
	return st, err
}

// timed runs things in turns, five times each, and gives the median time of each.
func timed(fs ...func() error) ([]time.Duration, error) {
	all := make([][]time.Duration, len(fs))
	for range 5 {
		for k, f := range fs {
			start := time.Now()
			if err := f(); err != nil {
				return nil, err
			}
			all[k] = append(all[k], time.Since(start))
		}
	}
	out := make([]time.Duration, len(fs))
	for k := range all {
		slices.Sort(all[k])
		out[k] = all[k][2]
	}
	return out, nil
}

func rate(bytes int64, d time.Duration) string {
	return fmt.Sprintf("%.0f MiB/s", float64(bytes)/(1<<20)/d.Seconds())
}

// source writes a file to put and to serve, and gives its path.
func (b *bench) source(name string, size int64) (string, error) {
	path := filepath.Join(b.dir, "static", name)
	f, err := os.Create(path)
	if err != nil {
		return "", err
	}
	block := make([]byte, 1<<20)
	for i := range int(size) / len(block) {
		for j := 0; j < len(block); j += 512 {
			block[j] = byte(i + j)
		}
		if _, err := f.Write(block); err != nil {
			return "", errors.Join(err, f.Close())
		}
	}
	return path, errors.Join(f.Sync(), f.Close())
}

// putFile puts a file.
func (b *bench) putFile(src, path string, size int64) error {
	in, err := os.Open(src)
	if err != nil {
		return err
	}
	defer in.Close()
	st, err := b.request(http.MethodPut, path, in, size)
	if err == nil && st != 200 {
		err = fmt.Errorf("status %d", st)
	}
	return err
}

// getFile gets size bytes on a connection of its own.
func getFile(addr, path string, size int64, signed bool) error {
	c, err := dial(addr, signed)
	if err != nil {
		return err
	}
	defer c.c.Close()
	st, n, err := c.do(http.MethodGet, path, nil, 0)
	if err == nil && (st != 200 || n != size) {
		err = fmt.Errorf("status %d, %d bytes", st, n)
	}
	return err
}

func (b *bench) large() error {
	src, err := b.source("large", gib)
	if err != nil {
		return err
	}
	put := func() error { return b.putFile(src, "/bench/large", gib) }
	hash := func() error {
		in, err := os.Open(src)
		if err != nil {
			return err
		}
		defer in.Close()
		_, err = io.CopyBuffer(struct{ io.Writer }{md5.New()}, struct{ io.Reader }{in}, make([]byte, 256<<10))
		return err
	}
	t, err := timed(put, func() error { return copyFile(src, filepath.Join(b.dir, "copy")) }, hash)
	if err != nil {
		return err
	}
	puts, copied, hashed := t[0], t[1], t[2]
	b.row("put 1 GiB, digest not signed", rate(gib, puts),
		fmt.Sprintf("%.2f of a synced copy (%s)", copied.Seconds()/puts.Seconds(), rate(gib, copied)), "0.6")
	b.row("", "", fmt.Sprintf("%.2f of MD5 alone (%s)", hashed.Seconds()/puts.Seconds(), rate(gib, hashed)), "0.75")
	if t, err = timed(func() error { return getFile(b.wire, "/bench/large", gib, true) },
		func() error { return getFile(b.static, "/large", gib, false) }); err != nil {
		return err
	}
	ours, theirs := t[0], t[1]
	b.row("get 1 GiB", rate(gib, ours), fmt.Sprintf("%.2f of static serving (%s)", theirs.Seconds()/ours.Seconds(),
		rate(gib, theirs)), "0.8")
	return os.Remove(filepath.Join(b.dir, "copy"))
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	if _, err := io.CopyBuffer(struct{ io.Writer }{out}, struct{ io.Reader }{in}, make([]byte, 1<<20)); err != nil {
		return err
	}
	return errors.Join(out.Sync(), out.Close())
}

// cpu gives the processor time that the service and its database have used.
func (b *bench) cpu() (service, database time.Duration) {
	tick := func(pid int) time.Duration {
		s, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil {
			return 0
		}
		f := strings.Fields(string(s[strings.LastIndexByte(string(s), ')')+2:]))
		var n time.Duration
		for _, i := range []int{11, 12, 13, 14} { // own and children's, user and system
			v, err := strconv.Atoi(f[i])
			if err != nil {
				return 0
			}
			if i > 12 && pid == b.service.Process.Pid {
				continue
			}
			n += time.Duration(v) * 10 * time.Millisecond
		}
		return n
	}
	service = tick(b.service.Process.Pid)
	out, err := exec.Command("pgrep", "-u", "postgres").Output()
	if err != nil {
		return service, 0
	}
	for _, f := range strings.Fields(string(out)) {
		if pid, err := strconv.Atoi(f); err == nil {
			database += tick(pid)
		}
	}
	return service, database
}

// spent is the processor time of one request, in the service, in the database and in this
// process, which is the client.
type spent struct{ service, database, client time.Duration }

func (s spent) String() string {
	return fmt.Sprintf("%d+%d+%d µs", s.service.Microseconds(), s.database.Microseconds(), s.client.Microseconds())
}

// own gives the processor time of this process.
func own() time.Duration {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		return 0
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// perSecond runs f from many goroutines for a while and gives the rate.
func (b *bench) perSecond(f func(worker, i int) error) (float64, error) {
	r, _, err := b.rate(f)
	return r, err
}

// rate is perSecond, and what each cost.
func (b *bench) rate(f func(worker, i int) error) (rate float64, cost spent, err error) {
	var n atomic.Int64
	var wg sync.WaitGroup
	errs := make(chan error, clients)
	end := time.Now().Add(b.span)
	start := time.Now()
	s0, d0 := b.cpu()
	c0 := own()
	for w := range clients {
		wg.Go(func() {
			for i := 0; time.Now().Before(end); i++ {
				if err := f(w, i); err != nil {
					errs <- err
					return
				}
				n.Add(1)
			}
		})
	}
	wg.Wait()
	took := time.Since(start)
	s1, d1 := b.cpu()
	if ops := time.Duration(n.Load()); ops > 0 {
		cost = spent{(s1 - s0) / ops, (d1 - d0) / ops, (own() - c0) / ops}
	}
	select {
	case err := <-errs:
		return 0, cost, err
	default:
	}
	return float64(n.Load()) / took.Seconds(), cost, nil
}

func (b *bench) conns(addr string, signed bool) ([]*conn, error) {
	cs := make([]*conn, clients)
	for i := range cs {
		var err error
		if cs[i], err = dial(addr, signed); err != nil {
			return nil, err
		}
	}
	return cs, nil
}

// rounds is how often the things that are compared take turns: a machine's
// speed drifts, and a ratio of neighbours drifts less.
const rounds = 4

// turns measures things in turns and gives the median rate of each.
func (b *bench) turns(fs ...func(worker, i int) error) ([]float64, error) {
	rates, _, err := b.costs(fs...)
	return rates, err
}

// costs is turns, and the median of what each costs.
func (b *bench) costs(fs ...func(worker, i int) error) ([]float64, []spent, error) {
	all, cost := make([][]float64, len(fs)), make([][3][]time.Duration, len(fs))
	for range rounds {
		for k, f := range fs {
			r, c, err := b.rate(f)
			if err != nil {
				return nil, nil, err
			}
			all[k] = append(all[k], r)
			for i, d := range []time.Duration{c.service, c.database, c.client} {
				cost[k][i] = append(cost[k][i], d)
			}
		}
	}
	out, each := make([]float64, len(fs)), make([]spent, len(fs))
	for k := range all {
		out[k] = middle(all[k])
		each[k] = spent{middle(cost[k][0]), middle(cost[k][1]), middle(cost[k][2])}
	}
	return out, each, nil
}

// middle gives the median.
func middle[T float64 | time.Duration](of []T) T {
	slices.Sort(of)
	return (of[(len(of)-1)/2] + of[len(of)/2]) / 2
}
