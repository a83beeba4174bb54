package postgres

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"sort"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"spindle/internal/core/fault"
)

// maxSocketPath is what a unix socket's path may have, less the server's own file name.
const maxSocketPath = 107 - len("/.s.PGSQL.5432.lock")

// Server is a private PostgreSQL.
type Server struct {
	dir, run, bin string
	cred          *syscall.Credential
	log           *slog.Logger

	args      []string      // of the server
	keeps     string        // the folder in which its log is kept; "" for none
	keepEvery time.Duration // see Settings.KeepEvery

	mu        sync.Mutex
	cmd       *exec.Cmd
	stopped   bool
	ends      int    // how often it ended by itself
	complaint string // its last that was fatal
	done      chan struct{}
}

// Programs finds the folder with PostgreSQL's programs. The error has the code
// postgres-missing.
func Programs() (string, error) {
	if p, err := exec.LookPath("initdb"); err == nil {
		if p, err = filepath.EvalSymlinks(p); err == nil {
			return filepath.Dir(p), nil
		}
	}
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	sort.Slice(found, func(i, j int) bool { return version(found[i]) < version(found[j]) })
	if len(found) == 0 {
		return "", fault.New(fault.Unavailable, "postgres-missing", "PostgreSQL's server programs are not on this machine").
			In("database").
			Do("install them (apt-get install postgresql), or give --database with the address of a server")
	}
	return filepath.Dir(found[len(found)-1]), nil
}

func version(path string) int {
	n, _ := strconv.Atoi(strings.Split(path, "/")[4])
	return n
}

// Start makes the cluster under dir if there is none, starts it and waits until
// it answers. Stop it before exit.
func Start(ctx context.Context, dir string, log *slog.Logger) (*Server, error) {
	return StartWith(ctx, dir, log, Settings{})
}

// StartWith starts a server as Start does, with settings. One that recovers has come to its
// moment when this returns, and takes writes.
func StartWith(ctx context.Context, dir string, log *slog.Logger, in Settings) (*Server, error) {
	bin, err := Programs()
	if err != nil {
		return nil, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	s := &Server{dir: filepath.Join(dir, "cluster"), bin: bin, log: log, done: make(chan struct{})}
	if os.Geteuid() == 0 {
		if s.cred, err = postgresUser(); err != nil {
			return nil, err
		}
	}
	if err := s.folders(dir); err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(s.dir, "PG_VERSION")); errors.Is(err, fs.ErrNotExist) {
		if err := s.create(ctx); err != nil {
			return nil, err
		}
	}
	if err := s.settle(ctx); err != nil {
		return nil, err
	}
	if s.args, err = s.arguments(ctx, in); err != nil {
		return nil, err
	}
	ready := make(chan error, 1)
	go s.supervise(ready)
	if err := <-ready; err != nil {
		return nil, err
	}
	if in.Recover != nil {
		err = s.recovered(ctx)
	} else {
		err = s.await(ctx)
	}
	if err != nil {
		s.Stop()
		return nil, err
	}
	if s.keeps != "" {
		go s.handOnTimely()
	}
	return s, nil
}

func postgresUser() (*syscall.Credential, error) {
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fault.New(fault.Unavailable, "postgres-user",
			"PostgreSQL does not run as root, and there is no user postgres").In("database").
			Do("install the package postgresql, which makes the user, or run the service as another user").Because(err)
	}
	uid, err := strconv.Atoi(u.Uid)
	if err != nil {
		return nil, err
	}
	gid, err := strconv.Atoi(u.Gid)
	if err != nil {
		return nil, err
	}
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// Running gives the address of a database on the server that runs for dir, when
// one does.
func Running(dir, database string) (url string, ok bool) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", false
	}
	s := &Server{dir: filepath.Join(dir, "cluster"), run: runFolder(dir)}
	return s.URL(database), s.runningPID() > 0
}

// runAt is the file beneath dir that tells where the socket's folder is, when a path beneath dir
// would be too long for a socket.
const runAt = "run.at"

// runFolder gives the folder of the server's socket: beneath dir unless that is too long a path;
// "" when it is to be made elsewhere first.
func runFolder(dir string) string {
	run := filepath.Join(dir, "run")
	if len(run) <= maxSocketPath {
		return run
	}
	at, err := os.ReadFile(filepath.Join(dir, runAt))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(at))
}

// folders prepares the cluster's folders and the socket's.
func (s *Server) folders(dir string) error {
	for _, d := range []string{dir, s.dir} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return folderFault(err)
		}
		if err := s.give(d); err != nil {
			return err
		}
	}
	s.run = runFolder(dir)
	if s.run != filepath.Join(dir, "run") {
		if err := s.runElsewhere(dir); err != nil {
			return folderFault(err)
		}
	} else if err := os.MkdirAll(s.run, 0o700); err != nil {
		return folderFault(err)
	} else if err := s.give(s.run); err != nil {
		return err
	}
	if !s.ours(s.run) {
		return fault.New(fault.Refused, "socket-folder", "the folder %s for the database's socket is open to others", s.run).
			In("data").Do("remove it and start again")
	}
	if s.cred == nil {
		return nil
	}
	return s.passable(filepath.Dir(dir))
}

func folderFault(err error) error {
	return fault.New(fault.Invalid, "data-directory", "the database's folder cannot be made").In("data").
		Do("give a directory this process may write to").Because(err)
}

// give gives a folder to the server's user; never what a link leads to.
func (s *Server) give(d string) error {
	if s.cred == nil {
		return nil
	}
	return os.Lchown(d, int(s.cred.Uid), int(s.cred.Gid))
}

// ours reports whether a folder is one, of the server's user, and open to nobody else.
func (s *Server) ours(d string) bool {
	st, err := os.Lstat(d)
	if err != nil || !st.IsDir() || st.Mode().Perm() != 0o700 {
		return false
	}
	is, ok := st.Sys().(*syscall.Stat_t)
	want := uint32(os.Geteuid())
	if s.cred != nil {
		want = s.cred.Uid
	}
	return ok && is.Uid == want
}

// runElsewhere takes up the folder that was made for the socket, or makes one under a name that
// nobody can know before, and notes it.
func (s *Server) runElsewhere(dir string) (err error) {
	if s.run != "" && s.ours(s.run) {
		return nil
	}
	if s.run, err = os.MkdirTemp("", "spindle-"); err != nil {
		return err
	}
	if err := s.give(s.run); err != nil {
		return err
	}
	tmp := filepath.Join(dir, runAt+".new")
	if err := os.WriteFile(tmp, []byte(s.run+"\n"), 0o644); err != nil {
		return err
	}
	return os.Rename(tmp, filepath.Join(dir, runAt))
}

// passable refuses a folder that the server's user cannot come to.
func (s *Server) passable(dir string) error {
	for d := dir; ; d = filepath.Dir(d) {
		st, err := os.Stat(d)
		if err != nil {
			return err
		}
		own := st.Sys().(*syscall.Stat_t)
		pass := st.Mode()&0o001 != 0 || own.Uid == s.cred.Uid && st.Mode()&0o100 != 0 || own.Gid == s.cred.Gid &&
			st.Mode()&0o010 != 0
		if !pass {
			return fault.New(fault.Invalid, "data-directory",
				"the user postgres, who runs the database for root, may not pass through %s", d).In("data").
				Do("choose a directory elsewhere, run as an ordinary user, or allow it: chmod o+x %s", d)
		}
		if d == "/" {
			return nil
		}
	}
}

func (s *Server) command(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(s.bin, name), args...)
	cmd.Dir = s.dir
	cmd.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C", "TZ=UTC"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.cred, Setpgid: true}
	return cmd
}

func (s *Server) create(ctx context.Context) error {
	// Made beside and renamed, so that a crash leaves no half a cluster behind.
	tmp := s.dir + ".new"
	if err := os.RemoveAll(tmp); err != nil {
		return err
	}
	cmd := s.command("initdb", "-D", tmp, "--username=spindle", "--auth=trust", "--locale=C", "--encoding=UTF8",
		"--no-instructions")
	cmd.Dir = filepath.Dir(s.dir)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fault.New(fault.Internal, "database-create", "the database cluster could not be made").In("data").
			Do("read the message: %s", lastLine(out)).Because(err)
	}
	settings := fmt.Sprintf(`listen_addresses = ''
unix_socket_directories = '%s'
unix_socket_permissions = 0700
max_connections = 120
shared_buffers = 256MB
effective_cache_size = 2GB
random_page_cost = 1.1
max_wal_size = 2GB
wal_compression = on
checkpoint_timeout = 10min
idle_in_transaction_session_timeout = 60s
timezone = 'UTC'
log_timezone = 'UTC'
cluster_name = 'spindle'
`, strings.ReplaceAll(s.run, "'", "''"))
	f, err := os.OpenFile(filepath.Join(tmp, "postgresql.conf"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	if _, err := f.WriteString(settings); err != nil {
		return errors.Join(err, f.Close())
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Remove(s.dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return os.Rename(tmp, s.dir)
}

func lastLine(out []byte) string {
	lines := bytes.Split(bytes.TrimSpace(out), []byte("\n"))
	return string(lines[len(lines)-1])
}

// settle stops a server that a crash left running on the cluster.
func (s *Server) settle(ctx context.Context) error {
	pid := s.runningPID()
	if pid == 0 {
		return nil
	}
	s.log.Info("a database server of an earlier run is still there; it is asked to stop", "pid", pid)
	for i := range 300 {
		if i == 0 || i == 100 {
			_ = syscall.Kill(pid, syscall.SIGINT)
		}
		if s.runningPID() == 0 {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
	return fault.New(fault.Conflict, "database-busy",
		"a database server with process number %d still runs on this data directory and does not stop", pid).In("data").
		Do("end that process, then start again")
}

// runningPID gives the process number of a live server of this cluster, 0 when none.
func (s *Server) runningPID() int {
	b, err := os.ReadFile(filepath.Join(s.dir, "postmaster.pid"))
	if err != nil {
		return 0
	}
	line, _, _ := strings.Cut(string(b), "\n")
	pid, err := strconv.Atoi(strings.TrimSpace(line))
	if err != nil || pid <= 1 || syscall.Kill(pid, 0) == syscall.ESRCH {
		return 0
	}
	// The number may be another program's by now.
	if cmdline, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid)); err != nil ||
		!bytes.Contains(cmdline, []byte(s.dir)) {
		return 0
	}
	return pid
}

// supervise runs the server until Stop and starts it again when it dies. It
// stays on one thread: the kernel's word to the child is tied to the thread
// that made it.
func (s *Server) supervise(ready chan<- error) {
	runtime.LockOSThread()
	defer close(s.done)
	for attempt := 0; ; attempt++ {
		cmd := s.command("postgres", s.args...)
		cmd.SysProcAttr.Pdeathsig = syscall.SIGINT
		out := &lineLog{log: s.log, fatal: s.complains}
		cmd.Stdout, cmd.Stderr = out, out
		s.mu.Lock()
		if s.stopped {
			s.mu.Unlock()
			return
		}
		err := cmd.Start()
		if err == nil {
			s.cmd = cmd
		}
		s.mu.Unlock()
		if attempt == 0 {
			ready <- err
			if err != nil {
				return
			}
		}
		started := time.Now()
		if err == nil {
			err = cmd.Wait()
		}
		s.mu.Lock()
		stopped := s.stopped
		s.cmd = nil
		s.ends++
		s.mu.Unlock()
		if stopped {
			return
		}
		s.log.Warn("the database server ended and is started again", "error", err)
		if time.Since(started) < 5*time.Second {
			time.Sleep(300 * time.Millisecond)
		}
	}
}

// lineLog passes the server's complaints to the log, a line at a time.
type lineLog struct {
	log   *slog.Logger
	fatal func(line string) // told of what the server ends by
	mu    sync.Mutex
	buf   []byte
}

func (l *lineLog) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.buf = append(l.buf, p...)
	for {
		i := bytes.IndexByte(l.buf, '\n')
		if i < 0 {
			return len(p), nil
		}
		line := string(l.buf[:i])
		l.buf = l.buf[i+1:]
		level := slog.LevelDebug
		if strings.Contains(line, "PANIC:") || strings.Contains(line, "FATAL:") && !strings.Contains(line, "starting up") &&
			!strings.Contains(line, "shutting down") {
			level = slog.LevelWarn
			l.fatal(line)
		}
		l.log.Log(context.Background(), level, "database: "+line)
	}
}

var _ io.Writer = (*lineLog)(nil)

// complains remembers why the server ends.
func (s *Server) complains(line string) {
	_, says, _ := strings.Cut(line, ":  ")
	s.mu.Lock()
	defer s.mu.Unlock()
	s.complaint = strings.TrimSpace(says)
}

// ended gives how often the server ended by itself.
func (s *Server) ended() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.ends
}

// notUp says that the server does not come up, with the reason that it gave.
func (s *Server) notUp(what string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	why := ""
	if s.complaint != "" {
		why = ": " + s.complaint
	}
	return fault.New(fault.Unavailable, "database-start", "the private database %s%s", what, why).In("data").
		Do("run with --log-level debug to see its messages")
}

// upWithin is for how long a server may say nothing. One that says that it reads its log may
// take longer.
const upWithin = 60 * time.Second

// await waits until the server answers.
func (s *Server) await(ctx context.Context) error {
	const busy = 1 // what pg_isready ends with for a server that is starting
	for deadline := time.Now().Add(upWithin); ; {
		err := s.command("pg_isready", "-q", "-h", s.run, "-U", "spindle", "-d", "postgres").Run()
		if err == nil {
			return nil
		}
		if exitCode(err) == busy && s.ended() == 0 {
			deadline = time.Now().Add(upWithin)
		}
		if time.Now().After(deadline) {
			return s.notUp("does not come up")
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-s.done:
			return s.notUp("ended while starting")
		case <-time.After(30 * time.Millisecond):
		}
	}
}

// URL gives the address of a database on the server.
func (s *Server) URL(database string) string {
	q := url.Values{"host": {s.run}, "sslmode": {"disable"}}
	// A blank is no + to the database's own programs.
	return "postgres://spindle@/" + url.PathEscape(database) + "?" + strings.ReplaceAll(q.Encode(), "+", "%20")
}

// PID gives the server's process number, 0 while it is not running.
func (s *Server) PID() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.cmd == nil {
		return 0
	}
	return s.cmd.Process.Pid
}

// Stop ends the server, cutting connections that are left, and waits for it.
func (s *Server) Stop() {
	s.mu.Lock()
	s.stopped = true
	if s.cmd != nil {
		_ = s.cmd.Process.Signal(syscall.SIGINT)
	}
	s.mu.Unlock()
	select {
	case <-s.done:
	case <-time.After(20 * time.Second):
		s.mu.Lock()
		if s.cmd != nil {
			_ = s.cmd.Process.Signal(syscall.SIGQUIT)
		}
		s.mu.Unlock()
		<-s.done
	}
}
