package postgres

import (
	"archive/tar"
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"spindle/internal/core/fault"
)

// Settings are what a server is started with beside its folder.
type Settings struct {
	// KeepLog is the folder in which the server's log of changes is kept, as it is written, in
	// a folder of each cluster; "" for none.
	KeepLog string
	// KeepEvery is how old the latest file there may be while there is something to hand on; 0 is a minute.
	KeepEvery time.Duration

	// Recover has a cluster that Unpack made be brought to a moment by its log.
	Recover *Recovery
}

// Recovery is how a cluster is brought to a moment.
type Recovery struct {
	Log  string    // the cluster's folder in KeepLog
	Line int64     // of time, which it follows
	To   time.Time // at which it stops; later than the end of the base
}

// changesEvery is how often the server hands on what it wrote, however little.
const changesEvery = time.Minute

// quoted quotes a word for the shell.
func quoted(word string) string { return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'" }

// shell quotes a word for the shell of the server, which reads % in its commands.
func shell(word string) string { return strings.ReplaceAll(quoted(word), "%", "%%") }

// handOn hands a file of the log on. One that is there was handed on before, and a stop came before
// the server knew, or it is another database's: what is there is not written over.
const handOn = `if [ -e FILE.gz ]; then gzip -dc FILE.gz | cmp -s - %p; ` +
	`else gzip -c %p > FILE.part && sync FILE.part && mv FILE.part FILE.gz; fi`

// arguments gives what the server is told at its start.
func (s *Server) arguments(ctx context.Context, in Settings) ([]string, error) {
	args := []string{"-D", s.dir, "-c", "unix_socket_directories=" + s.run}
	if in.KeepLog != "" {
		to, err := s.logFolder(ctx, in.KeepLog)
		if err != nil {
			return nil, err
		}
		if err := s.handOnLines(ctx, to); err != nil {
			return nil, err
		}
		s.keeps, s.keepEvery = to, cmp.Or(in.KeepEvery, changesEvery)
		args = append(args, "-c", "archive_mode=on",
			"-c", fmt.Sprintf("archive_timeout=%d", int(s.keepEvery.Seconds())),
			"-c", "archive_command="+strings.ReplaceAll(handOn, "FILE", shell(to)+"/%f"))
	}
	if r := in.Recover; r != nil {
		args = append(args, "-c", "restore_command=gzip -dc "+shell(r.Log)+"/%f.gz > %p",
			"-c", "recovery_target_time="+r.To.UTC().Format("2006-01-02 15:04:05.000000+00"),
			"-c", fmt.Sprintf("recovery_target_timeline=%d", r.Line), "-c", "recovery_target_action=promote")
	}
	return args, nil
}

// handOnTimely has the server end the file that it writes when the latest one in the folder is old: by its own clock
// the server does so only after its first checkpoint, which may be ten minutes after a start. A server that wrote
// nothing does nothing, and one whose folder is away finds that out.
func (s *Server) handOnTimely() {
	latest := time.Now()
	for {
		select {
		case <-s.done:
			return
		case <-time.After(s.keepEvery / 6):
		}
		files, _ := os.ReadDir(s.keeps) // none when it is away
		for _, f := range files {
			if st, err := f.Info(); err == nil && st.ModTime().After(latest) && strings.HasSuffix(f.Name(), ".gz") {
				latest = st.ModTime()
			}
		}
		if time.Since(latest) < s.keepEvery*2/3 {
			continue
		}
		// A server that is starting is asked again by the next turn.
		if s.command("psql", "-AtqX", "-h", s.run, "-U", "spindle", "-d", "postgres", "-c",
			"select pg_switch_wal()").Run() == nil {
			latest = time.Now()
		}
	}
}

// cluster gives the number that a cluster has for life. The error has the code
// database-cluster.
func (s *Server) cluster(ctx context.Context) (string, error) {
	out, err := s.command("pg_controldata", "-D", s.dir).Output()
	if err == nil {
		for line := range strings.Lines(string(out)) {
			if number, ok := strings.CutPrefix(line, "Database system identifier:"); ok {
				return strings.TrimSpace(number), ctx.Err()
			}
		}
		err = errors.New("it does not say its number")
	}
	return "", fault.New(fault.Internal, "database-cluster",
		"the database cluster cannot be told apart").In("data").Because(err)
}

// keepsFile has where the log of a cluster is kept: once it was, a folder that is missing is one
// whose disk is away, and is not made in the place where that should be.
const keepsFile = "keeps-log"

// logFolder gives the folder of this cluster in the one where logs are kept, and makes it the
// first time. The error has the code log-folder.
func (s *Server) logFolder(ctx context.Context, folder string) (string, error) {
	number, err := s.cluster(ctx)
	if err != nil {
		return "", err
	}
	if folder, err = filepath.Abs(folder); err != nil {
		return "", err
	}
	to := filepath.Join(folder, number)
	keeps := filepath.Join(filepath.Dir(s.dir), keepsFile)
	if was, err := os.ReadFile(keeps); err == nil && string(was) == to {
		return to, nil
	}
	if err := s.makeLogFolder(folder, to); err != nil {
		return "", err
	}
	return to, os.WriteFile(keeps, []byte(to), 0o600)
}

// handOnLines hands on what tells where the cluster's lines of time branched off: a recovery writes
// that when no log is kept yet. The error has the code log-folder when another database kept its log
// there that branched off elsewhere.
func (s *Server) handOnLines(ctx context.Context, to string) error {
	log := filepath.Join(s.dir, "pg_wal")
	files, err := os.ReadDir(log)
	if err != nil {
		return err
	}
	if _, err := os.Stat(to); errors.Is(err, fs.ErrNotExist) {
		return nil // its disk is away, which the overview tells
	}
	for _, f := range files {
		if !strings.HasSuffix(f.Name(), ".history") {
			continue
		}
		words := strings.NewReplacer("FILE", quoted(filepath.Join(to, f.Name())), "%p", quoted(filepath.Join(log, f.Name())))
		sh := exec.CommandContext(ctx, "sh", "-c", words.Replace(handOn))
		sh.SysProcAttr = &syscall.SysProcAttr{Credential: s.cred}
		if says, err := sh.CombinedOutput(); err != nil {
			return fault.New(fault.Conflict, "log-folder", "%s cannot be kept in %s, or is of another database there: %s",
				f.Name(), to, bytes.TrimSpace(says)).In("keep-log").Do("when another database that was restored " +
				"from the same backup keeps its log there, give another folder: backups and log of this one begin anew").Because(err)
		}
	}
	return nil
}

// makeLogFolder makes a folder that the server's user comes to and may write to.
func (s *Server) makeLogFolder(folder, to string) error {
	if _, err := os.Stat(filepath.Dir(folder)); err != nil {
		return fault.New(fault.Invalid, "log-folder", "the folder %s is not there", filepath.Dir(folder)).In("keep-log").
			Do("mount its disk, or make it").Because(err)
	}
	if err := os.MkdirAll(to, 0o711); err != nil {
		return fault.New(fault.Invalid, "log-folder", "the folder %s for the database's log cannot be made", to).
			In("keep-log").Do("give a folder that this process may write to").Because(err)
	}
	if s.cred == nil {
		return nil
	}
	for _, d := range []string{folder, to} { // the folder of all is the server's, so that it may pass
		if err := os.Chown(d, int(s.cred.Uid), int(s.cred.Gid)); err != nil {
			return err
		}
	}
	return s.passable(folder)
}

// Unpack puts the base of a cluster, a tar file compressed by gzip as pg_basebackup writes it,
// into dir, where Start finds it, and has it wait for its recovery.
func Unpack(dir, base string) error {
	s := &Server{dir: filepath.Join(dir, "cluster")}
	var err error
	if os.Geteuid() == 0 {
		if s.cred, err = postgresUser(); err != nil {
			return err
		}
	}
	if err := s.folders(dir); err != nil {
		return err
	}
	f, err := os.Open(base)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := s.unpack(f); err != nil {
		return fault.New(fault.Damaged, "backup-base", "the base %s cannot be unpacked", base).In("backup").
			Do("take a backup from before it").Because(err)
	}
	return s.entry("recovery.signal", 0o600, bytes.NewReader(nil))
}

func (s *Server) unpack(from io.Reader) error {
	plain, err := gzip.NewReader(from)
	if err != nil {
		return err
	}
	for r := tar.NewReader(plain); ; {
		h, err := r.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		switch {
		case !filepath.IsLocal(h.Name):
			err = fmt.Errorf("%q is outside of it", h.Name)
		case h.Typeflag == tar.TypeDir:
			if err = os.MkdirAll(filepath.Join(s.dir, h.Name), 0o700); err == nil {
				err = s.own(h.Name)
			}
		case h.Typeflag == tar.TypeReg:
			err = s.entry(h.Name, os.FileMode(h.Mode).Perm(), r)
		default:
			err = fmt.Errorf("%q is neither a file nor a folder", h.Name)
		}
		if err != nil {
			return err
		}
	}
}

// entry writes a file of the cluster.
func (s *Server) entry(name string, mode os.FileMode, from io.Reader) error {
	f, err := os.OpenFile(filepath.Join(s.dir, name), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, from)
	return errors.Join(err, f.Close(), s.own(name))
}

// own gives what was made to the server's user.
func (s *Server) own(name string) error {
	if s.cred == nil {
		return nil
	}
	return os.Chown(filepath.Join(s.dir, name), int(s.cred.Uid), int(s.cred.Gid))
}

// recovered waits until the server takes writes: until its log is read.
func (s *Server) recovered(ctx context.Context) error {
	for {
		out, err := s.command("psql", "-AtX", "-h", s.run, "-U", "spindle", "-d", "postgres", "-c",
			"select pg_is_in_recovery()").Output()
		if err == nil && strings.TrimSpace(string(out)) == "f" {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
		if s.ended() > 0 {
			return s.notUp("does not come to the moment")
		}
	}
}

// exitCode gives what a program ended with; -1 when it was not run at all.
func exitCode(err error) int {
	var exit interface{ ExitCode() int }
	if errors.As(err, &exit) {
		return exit.ExitCode()
	}
	return -1
}
