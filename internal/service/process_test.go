package service_test

import (
	"bufio"
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

// process is a real service in a process of its own, with a private database.
type process struct {
	t    *testing.T
	bin  string
	data string
	cmd  *exec.Cmd
	wire string
	desk string
	env  []string // further ones
	errs bytes.Buffer
}

// dataDir gives a directory that the database's user may pass through.
func dataDir(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "spindle-service-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o711); err != nil {
		t.Fatal(err)
	}
	return filepath.Join(dir, "data")
}

const (
	ownerKey    = "CRASHOWNER"
	ownerSecret = "survives-everything"
)

func (p *process) start(more ...string) error {
	args := append([]string{"serve", "--data", p.data, "--desk", "127.0.0.1:0", "--log-level", "error"}, more...)
	if !slices.Contains(more, "--wire") {
		args = append(args, "--wire", "127.0.0.1:0")
	}
	p.cmd = exec.Command(p.bin, args...)
	p.cmd.Env = append(os.Environ(), "SPINDLE_OWNER_KEY="+ownerKey, "SPINDLE_OWNER_SECRET="+ownerSecret)
	p.cmd.Env = append(p.cmd.Env, p.env...)
	p.errs.Reset()
	p.cmd.Stderr = &p.errs
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	out, err := p.cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := p.cmd.Start(); err != nil {
		return err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	rest, ok := strings.CutPrefix(line, "ready: wire ")
	if err != nil || !ok {
		_ = p.cmd.Wait()
		return fmt.Errorf("not ready: %q, %v: %s", line, err, p.errs.String())
	}
	p.wire, p.desk, _ = strings.Cut(strings.TrimSpace(rest), ", desk ")
	return nil
}

func (p *process) client() *client.Client {
	c, err := client.New(p.wire, "fenn", sign.Credential{ID: ownerKey, Secret: ownerSecret})
	if err != nil {
		p.t.Fatal(err)
	}
	return c
}

// command runs the command line against the service.
func (p *process) command(args ...string) string {
	p.t.Helper()
	out, err := p.try(args...)
	if err != nil {
		p.t.Fatalf("%v: %v: %s", args, err, out)
	}
	return out
}

// try is command, and gives how it ended.
func (p *process) try(args ...string) (string, error) {
	cmd := exec.Command(p.bin, args...)
	cmd.Env = append(os.Environ(), "SPINDLE_URL="+p.desk, "SPINDLE_KEY="+ownerKey, "SPINDLE_SECRET="+ownerSecret)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// killDatabase kills the private database's first process.
func (p *process) killDatabase() {
	b, err := os.ReadFile(filepath.Join(p.data, "postgres", "cluster", "postmaster.pid"))
	if err != nil {
		return // it is just starting
	}
	first, _, _ := strings.Cut(string(b), "\n")
	if pid, err := strconv.Atoi(first); err == nil {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
}
