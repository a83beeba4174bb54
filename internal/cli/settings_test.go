package cli_test

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"spindle/internal/cli"
	"spindle/internal/harness"
)

// lines collects output and tells when a text has come.
type lines struct {
	b    strings.Builder
	seen chan string
}

func (l *lines) Write(p []byte) (int, error) {
	l.b.Write(p)
	select {
	case l.seen <- l.b.String():
	default:
	}
	return len(p), nil
}

// TestSettingsComeFromFlagsThenEnvironmentThenFile starts the service from a
// file, with the environment and a flag before it.
func TestSettingsComeFromFlagsThenEnvironmentThenFile(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "spindle.yaml")
	write(t, file, []byte("data: "+filepath.Join(dir,
		"data")+"\ndatabase: "+harness.Database(
		t)+"\nregion: from-file\naccount: from-file\nwire: 127.0.0.1:1\ndesk: 127.0.0.1:0\nscrub-rate: 5MiB\ndomain: [a.example, b.example]\n"))
	t.Setenv("SPINDLE_REGION", "from-environment")
	t.Setenv("SPINDLE_WIRE", "127.0.0.1:2")
	ctx, stop := context.WithCancel(t.Context())
	out, errs := &lines{seen: make(chan string, 1)}, &lines{seen: make(chan string, 1)}
	ended := make(chan int, 1)
	go func() {
		ended <- cli.Run([]string{"spindle", "serve", "--config", file, "--wire", "127.0.0.1:0", "--log-level", "error"},
			&cli.Env{In: strings.NewReader(""), Out: out, Err: errs, Getenv: os.Getenv, Done: ctx})
	}()
	var ready string
	select {
	case ready = <-out.seen:
	case code := <-ended:
		t.Fatalf("ended with %d: %s", code, errs.b.String())
	case <-time.After(30 * time.Second):
		t.Fatal("it does not come up")
	}
	_, desk, ok := strings.Cut(strings.TrimSpace(ready), ", desk ")
	if !ok || !strings.HasPrefix(ready, "ready: wire http://127.0.0.1:") {
		t.Fatalf("ready says %q", ready)
	}
	if !strings.Contains(errs.b.String(), "shown this once") {
		t.Errorf("the owner's key is not shown: %q", errs.b.String())
	}
	fields := strings.Fields(errs.b.String())
	key, secret := "", ""
	for i, f := range fields {
		if f == "key" && i+1 < len(fields) && len(fields[i+1]) == 16 {
			key = fields[i+1]
		}
		if f == "secret" && i+1 < len(fields) && len(fields[i+1]) == 40 {
			secret = fields[i+1]
		}
	}
	code, text, e := runEnv(t, map[string]string{"HOME": t.TempDir()}, secret+"\n", false, "connect", desk, "--key", key)
	if code != 0 || !strings.Contains(text, "region from-environment, account from-file") {
		t.Errorf("connecting: %d %s%s", code, text, e)
	}
	stop()
	select {
	case code := <-ended:
		if code != 0 {
			t.Errorf("ended with %d: %s", code, errs.b.String())
		}
	case <-time.After(30 * time.Second):
		t.Error("it does not stop")
	}
}

func TestUnknownCommandsNameTheNearest(t *testing.T) {
	for line, nearest := range map[string]string{"bukcet": "bucket", "bucket lsit": "list", "access kye list": "key",
		"access key chnage": "change"} {
		code, out, says := runEnv(t, nil, "", false, strings.Fields(line)...)
		if code != 2 || out != "" || !strings.Contains(says, "there is no command") ||
			!strings.Contains(says, `nearest is "`+nearest+`"`) {
			t.Errorf("%s: %d %q %q", line, code, out, says)
		}
	}
}

func TestWrongSettingsAreNamed(t *testing.T) {
	dir := t.TempDir()
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	files := 0
	file := func(text string) string {
		files++
		path := filepath.Join(dir, fmt.Sprint("f", files, ".yaml"))
		write(t, path, []byte(text))
		return path
	}
	serve := func(args ...string) (int, string) {
		code, out, errs := runEnv(t, map[string]string{}, "", false, append([]string{"serve"}, args...)...)
		return code, out + errs
	}
	for _, c := range []struct {
		name string
		args []string
		code int
		says []string
	}{
		{"no data", nil, 1, []string{"data:", "--data DIR"}},
		{"a taken port", []string{"--data", dir + "/d", "--wire", taken.Addr().String(), "--desk", "127.0.0.1:0"}, 1,
			[]string{"taken", "--wire"}},
		{"beyond loopback", []string{"--data", dir + "/d", "--wire", "0.0.0.0:0"}, 3, []string{"--tls-cert", "--plain-http"}},
		{"no file", []string{"--config", dir + "/none"}, 1, []string{"cannot be read"}},
		{"a wrong name", []string{"--config", file("data: x\nrigion: fenn\n")}, 1, []string{"[2:1]", "rigion"}},
		{"a wrong kind", []string{"--config", file("data: x\nscrub-every: [1]\n")}, 1, []string{"[2:"}},
		{"a list for one", []string{"--config", file("data: x\nregion: [fenn, moor]\n")}, 1, []string{"[2:9]", "one value"}},
		{"no number", []string{"--config", file("data: x\ntrail-days: many\n")}, 1, []string{"[2:13]", "trail-days"}},
		{"out of bounds", []string{"--config", file("data: x\ntrail-days: 0\n")}, 1, []string{"trail-days", "1 to 36500"}},
		{"for one start alone", []string{"--config", file("data: x\naccept-volume: true\n")}, 1, []string{"[2:1]"}},
		{"no YAML", []string{"--config", file("data: [\n")}, 1, []string{"settings file is wrong"}},
		{"a wrong size", []string{"--data", dir + "/d", "--scrub-rate", "fast"}, 1, []string{"scrub-rate"}},
		{"a wrong level", []string{"--data", dir + "/d", "--log-level", "loud"}, 2, []string{"debug, info, warn or error"}},
		{"a wrong flag", []string{"--dada", dir}, 2, []string{"dada"}},
		{"an argument", []string{"now"}, 2, []string{"serve takes"}},
	} {
		code, text := serve(c.args...)
		for _, s := range c.says {
			if code != c.code || !strings.Contains(text, s) {
				t.Errorf("%s: exit %d, want %d with %q: %s", c.name, code, c.code, s, text)
			}
		}
	}
	if code, _, errs := runEnv(t, map[string]string{}, "", false, "demo", "--data",
		filepath.Dir(file("x: y"))); code != 1 || !strings.Contains(errs, "was not made by the demo") {
		t.Errorf("a demo in somebody's folder: %d %s", code, errs)
	}
	if _, err := os.Stat(filepath.Join(dir, "f1.yaml")); err != nil {
		t.Error("the demo touched what is not its own")
	}
}
