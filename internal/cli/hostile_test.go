package cli_test

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"filippo.io/age"

	"spindle/internal/harness"
)

// between stands between the command line and a service, and changes the documents of its answers.
func between(t *testing.T, to string, change func(r *http.Request, doc any) any) (url string) {
	t.Helper()
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		out, err := http.NewRequestWithContext(r.Context(), r.Method, to+r.URL.RequestURI(), r.Body)
		if err != nil {
			panic(err)
		}
		out.Header, out.Host, out.ContentLength = r.Header.Clone(), r.Host, r.ContentLength
		resp, err := http.DefaultClient.Do(out)
		if err != nil {
			panic(http.ErrAbortHandler)
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		if err != nil {
			panic(http.ErrAbortHandler)
		}
		var doc any
		if json.Unmarshal(b, &doc) == nil {
			if b, err = json.Marshal(change(r, doc)); err != nil {
				panic(err)
			}
		}
		w.Header().Set("Content-Type", resp.Header.Get("Content-Type"))
		w.WriteHeader(resp.StatusCode)
		_, _ = w.Write(b)
	}))
	t.Cleanup(front.Close)
	return front.URL
}

// bent gives a document with some of its values changed in ways that no service of ours does.
func bent(r *rand.Rand, v any) any {
	if r.IntN(12) == 0 {
		return []any{nil, "", -1, 1 << 62, []any{}, map[string]any{}, true, []any{nil}, "9999-99-99"}[r.IntN(9)]
	}
	switch v := v.(type) {
	case []any:
		for i := range v {
			v[i] = bent(r, v[i])
		}
		if len(v) > 0 && r.IntN(6) == 0 {
			return v[:r.IntN(len(v))]
		}
	case map[string]any:
		for k := range v {
			switch {
			case k == "product", k == "wire": // else nothing but the first question is asked
			case r.IntN(12) == 0:
				delete(v, k)
			default:
				v[k] = bent(r, v[k])
			}
		}
	}
	return v
}

// Whatever shape a service's answers have, every command ends, and says so; nothing of the program
// breaks.
func TestAnswersOfAnyShape(t *testing.T) {
	s := harness.Service(t, nil)
	dir := t.TempDir()
	write(t, filepath.Join(dir, "f"), []byte("content"))
	for _, line := range []string{"bucket create plates --versioning on", "object put DIR/f plates/a/k --tag kind=plate",
		"object put DIR/f plates/a/k", "object put DIR/f plates/b", "lifecycle add plates old --prefix a/ --remove 30",
		"access key create app --role writer", "access grant create plates --to key:app --for list,read",
		"census create all plates/lists/ --of plates", "upload start plates/large"} {
		if code, out, errs := run(t, s, "", strings.Fields(strings.ReplaceAll(line, "DIR", dir))...); code != 0 {
			t.Fatalf("%s: %d %s%s", line, code, out, errs)
		}
	}
	commands := []string{"bucket list", "bucket show plates", "object list plates", "object list plates --versions",
		"object show plates/a/k", "object history plates/a/k", "object get plates/a/k DIR/got/",
		"object get plates/ DIR/tree/",
		"object verify DIR/f plates/a/k", "object put DIR/f plates/c", "object rename plates/b plates/d", "upload list",
		"access key list", "access key show app", "access account list", "access grant list",
		"access person list", "access explain plates/a/k", "access trail", "access matrix", "journal list plates",
		"journal list",
		"region list", "region show fenn", "tier list", "tier show main", "placement list", "endpoint list",
		"replication list",
		"lifecycle list plates", "lifecycle show plates old", "lifecycle rehearse plates", "lifecycle run start plates",
		"lifecycle run list plates", "sync list", "census list", "census show all", "charter list", "usage", "audit list",
		"find plates size over 1 B", "find plates size over 1 B --count", "scrub show", "clock show", "find saved",
		"journal saved", "access session list", "access master-key show", "bucket field list plates"}
	for _, line := range commands { // they are commands
		if code, _, errs := run(t, s, "", strings.Fields(strings.ReplaceAll(line, "DIR", dir))...); code == 2 {
			t.Errorf("%s: %s", line, errs)
		}
	}
	for _, seed := range harness.Seeds(t, 1) {
		r := rand.New(rand.NewPCG(seed, 5))
		url := between(t, s.DeskURL, func(_ *http.Request, doc any) any { return bent(r, doc) })
		for _, line := range commands {
			env := map[string]string{"HOME": dir, "SPINDLE_URL": url, "SPINDLE_KEY": harness.Key,
				"SPINDLE_SECRET": harness.Secret}
			ends(t, fmt.Sprintf("seed %d: %s", seed, line), func() {
				runEnv(t, env, "", false, strings.Fields(strings.ReplaceAll(line, "DIR", dir))...)
			})
		}
	}
}

// ends runs something that has to end.
func ends(t *testing.T, what string, f func()) {
	t.Helper()
	done := make(chan struct{})
	go func() {
		defer close(done)
		defer func() {
			if p := recover(); p != nil {
				t.Errorf("%s: the program breaks: %v", what, p)
			}
		}()
		f()
	}()
	select {
	case <-done:
	case <-time.After(60 * time.Second):
		t.Fatalf("%s has not ended", what)
	}
}

// hostileNames are keys that no file of theirs may leave a folder by.
var hostileNames = []string{"../out", "/etc/out", "a/../../out", "..", ".", "a//b", "a/./b", "\x00", "n\x00l", "a/",
	"./out", "\\..\\out", "C:out", "-rf", "~/out", "$HOME/out", "`out`", "new\nline", "\x1b]0;owned\a", strings.Repeat("n",
		256),
	".spindle-part-x-y", "a", "a/b", "e\u0301", "\u00e9", "con", ".", "....//out"}

// hostileListing stands before a wire, whose listings have hostile names.
func hostileListing(t *testing.T, to string) string {
	t.Helper()
	target, err := url.Parse(to)
	if err != nil {
		t.Fatal(err)
	}
	var all strings.Builder
	for _, name := range hostileNames {
		all.WriteString("<Contents><Key>")
		_ = xml.EscapeText(&all, []byte(url.QueryEscape(name))) // to memory
		all.WriteString("</Key><LastModified>2026-11-20T10:00:00.000Z</LastModified><ETag>&quot;9a0364b9e99bb480dd25e1f0284c8555&quot;" +
			"</ETag><Size>7</Size></Contents>")
	}
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(target)
		r.Out.Host = r.In.Host // which was signed
	}, ModifyResponse: func(r *http.Response) error {
		if !strings.HasSuffix(r.Header.Get("Content-Type"), "xml") || r.Request.Method != "GET" {
			return nil
		}
		b, err := io.ReadAll(r.Body)
		if i := strings.Index(string(b), "<Contents>"); err == nil && i > 0 {
			b = []byte(string(b[:i]) + all.String() + string(b[strings.LastIndex(string(b), "</Contents>")+len("</Contents>"):]))
		}
		r.Body, r.ContentLength = io.NopCloser(strings.NewReader(string(b))), int64(len(b))
		r.Header.Set("Content-Length", fmt.Sprint(len(b)))
		return err
	}}
	front := httptest.NewServer(proxy)
	t.Cleanup(front.Close)
	return front.URL
}

// Keys of a service that is not what it says make no file outside of the folder that somebody
// named, by getting a tree, one object, or a sync to a folder.
func TestHostileNames(t *testing.T) {
	s := harness.Service(t, nil)
	s.Do("PUT", "/plates", nil, "", true)
	s.Do("PUT", "/plates/k", nil, "content", true)
	wire := hostileListing(t, s.WireURL)
	url := between(t, s.DeskURL, func(r *http.Request, doc any) any {
		if at, ok := doc.(map[string]any); ok && r.URL.Path == "/api/v1/service" {
			at["wire"].(map[string]any)["url"] = wire
		}
		page, ok := doc.(map[string]any)
		if list, is := page["objects"].([]any); ok && is && len(list) > 0 && strings.HasSuffix(r.URL.Path, "/objects") {
			var all []any
			for _, name := range hostileNames {
				o := map[string]any{}
				for k, v := range list[0].(map[string]any) {
					o[k] = v
				}
				o["key"] = name
				all = append(all, o)
			}
			page["objects"] = all
			delete(page, "next")
		}
		return doc
	})
	top := t.TempDir()
	env := map[string]string{"HOME": filepath.Join(top, "home"), "SPINDLE_URL": url, "SPINDLE_KEY": harness.Key,
		"SPINDLE_SECRET": harness.Secret}
	into := filepath.Join(top, "deep", "er", "into")
	if err := os.MkdirAll(into, 0o700); err != nil {
		t.Fatal(err)
	}
	lines := []string{"object get plates/ INTO/", "sync plates/ INTO", "object get plates/.. INTO/",
		"object get plates/a/.. INTO/"}
	for _, name := range []string{"../out", "n/..", "a/../../out"} {
		lines = append(lines, "object get plates/"+name+" INTO/")
	}
	for _, line := range lines {
		ends(t, line, func() {
			code, out, errs := runEnv(t, env, "", false, strings.Fields(strings.ReplaceAll(line, "INTO", into))...)
			if code == 0 {
				t.Errorf("%s: told as done: %s%s", line, out, errs)
			}
			if strings.ContainsAny(out+errs, "\x1b\a\x00") {
				t.Errorf("%s: commands reach the terminal: %q", line, out+errs)
			}
		})
		if err := filepath.WalkDir(top, func(path string, e fs.DirEntry, err error) error {
			if err == nil && !e.IsDir() && !strings.HasPrefix(path, into+"/") && !strings.HasPrefix(path, top+"/home/.") {
				t.Errorf("%s: there is %s", line, path)
			}
			return err
		}); err != nil {
			t.Fatal(err)
		}
	}
}

// A file of profiles that is not what it should be is refused: what is no file, is without end,
// is others' to change, or names what is no address.
func TestHostileProfiles(t *testing.T) {
	bomb := "a: &a [x,x,x,x,x,x,x,x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b,*b,*b,*b,*b,*b]\n" +
		"d: &d [*c,*c,*c,*c,*c,*c,*c,*c,*c]\ne: &e [*d,*d,*d,*d,*d,*d,*d,*d,*d]\nf: &f [*e,*e,*e,*e,*e,*e,*e,*e,*e]\n" +
		"g: &g [*f,*f,*f,*f,*f,*f,*f,*f,*f]\nh: &h [*g,*g,*g,*g,*g,*g,*g,*g,*g]\nuse: *h\n"
	good := "use: a\nprofiles:\n  a: {url: 'http://127.0.0.1:1', key: K, secret: S}\n"
	for name, c := range map[string]struct {
		lay  func(path string) error
		says string
	}{
		"long":   {func(p string) error { return os.WriteFile(p, []byte(strings.Repeat("#", 1<<20)), 0o600) }, "64.0 KiB"},
		"pipe":   {func(p string) error { return syscall.Mkfifo(p, 0o600) }, "no ordinary file"},
		"folder": {func(p string) error { return os.Mkdir(p, 0o700) }, "no ordinary file"},
		"bomb":   {func(p string) error { return os.WriteFile(p, []byte(bomb), 0o600) }, "cannot be read"},
		"others": {func(p string) error {
			if err := os.WriteFile(p, []byte(good), 0o600); err != nil {
				return err
			}
			return os.Chmod(p, 0o622)
		}, "others may change it"},
		"escapes": {func(p string) error {
			return os.WriteFile(p, []byte("use: \"a\\e]0;owned\\a\"\nprofiles:\n  \"a\\e]0;owned\\a\": {url: 'javascript:x'}\n"),
				0o600)
		}, "no address"},
	} {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "profiles.yaml")
			if err := c.lay(path); err != nil {
				t.Fatal(err)
			}
			for _, line := range []string{"bucket list", "profile list"} {
				ends(t, line, func() {
					code, out, errs := runEnv(t, map[string]string{"SPINDLE_PROFILES": path}, "", false, strings.Fields(line)...)
					if !strings.Contains(out+errs, c.says) && !(name == "escapes" && line == "profile list") {
						t.Errorf("%s: %d %q, want %q", line, code, out+errs, c.says)
					}
					if strings.ContainsAny(out+errs, "\x1b\a") {
						t.Errorf("%s: commands reach the terminal: %q", line, out+errs)
					}
				})
			}
		})
	}
}

// Completing a command asks no service, reads no profile, and writes words only.
func TestCompletingAsksNobody(t *testing.T) {
	var asked atomic.Int64
	front := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked.Add(1) }))
	t.Cleanup(front.Close)
	pipe := filepath.Join(t.TempDir(), "profiles.yaml") // whoever reads it waits
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	env := map[string]string{"SPINDLE_URL": front.URL, "SPINDLE_KEY": "K", "SPINDLE_SECRET": "S", "SPINDLE_PROFILES": pipe}
	for _, line := range []string{"", "bucket", "bucket remove", "bucket remove plates", "bucket remove plates --yes",
		"object remove plates/ --yes", "object get", "profile use", "restore", "serve", "completion",
		"charter enact x.yaml --yes",
		"bucket remove \x1b]0;owned\a $(touch${IFS}x)"} {
		ends(t, line, func() {
			_, out, errs := runEnv(t, env, "", false, append(strings.Fields(line), "--generate-shell-completion")...)
			if strings.ContainsAny(out+errs, "\x1b\a$`;|&") {
				t.Errorf("%q: what a shell would run: %q", line, out+errs)
			}
			if line == "bucket" && !slices.Contains(strings.Fields(strings.ReplaceAll(out, ":", " ")), "remove") {
				t.Errorf("%q completes to %q", line, out)
			}
		})
	}
	if n := asked.Load(); n > 0 {
		t.Errorf("a service was asked %d times", n)
	}
}

// What lies sealed at a place that somebody else keeps is brought back as it was written, or not at all, and the
// command fails: files exchanged, cut or invented, the mark gone, another's, or without its recipient.
func TestSealedPlacesAreMistrusted(t *testing.T) {
	s := harness.Service(t, nil)
	s.Do("PUT", "/kept", nil, "", true)
	dir := t.TempDir()
	write(t, filepath.Join(dir, "words"), []byte("herons over the fen at dusk\n"))
	write(t, filepath.Join(dir, "other"), []byte("another phrase of some length\n"))
	write(t, filepath.Join(dir, "secret"), []byte(harness.Secret))
	write(t, filepath.Join(dir, "src", "one.txt"), []byte("the first content"))
	write(t, filepath.Join(dir, "src", "two.txt"), []byte("the other content"))
	for place, words := range map[string]string{"a": "words", "b": "other"} {
		code, out, errs := run(t, s, "", "sync", filepath.Join(dir, "src"), "kept/"+place+"/", "--sealing", "content",
			"--passphrase-from", filepath.Join(dir, words), "--yes")
		if code != 0 {
			t.Fatalf("%d %s%s", code, out, errs)
		}
	}
	type file struct {
		content string
		beside  map[string]string
	}
	get := func(key string) file {
		st, h, b := s.Do("GET", "/kept/"+key, nil, "", true)
		if st != 200 {
			t.Fatalf("%s: %d", key, st)
		}
		f := file{b, map[string]string{}}
		for name, values := range h {
			if strings.HasPrefix(name, "X-Amz-Meta-") {
				f.beside[name] = values[0]
			}
		}
		return f
	}
	one, two, mark := get("a/one.txt"), get("a/two.txt"), get("a/spindle-sealed.json")
	var fields map[string]any
	if err := json.Unmarshal([]byte(mark.content), &fields); err != nil {
		t.Fatal(err)
	}
	recipient := fields["recipient"].(string)
	put := func(key string, f file) func() {
		return func() { s.Do("PUT", "/kept/a/"+key, f.beside, f.content, true) }
	}
	with := func(f file, content string) file { return file{content, f.beside} }
	gone := func(key string) func() { return func() { s.Do("DELETE", "/kept/a/"+key, nil, "", true) } }
	for what, change := range map[string]func(){
		"nothing":      func() {},
		"exchanged":    func() { put("one.txt", two)(); put("two.txt", one)() },
		"cut":          put("one.txt", with(one, one.content[:len(one.content)-20])),
		"empty":        put("one.txt", with(one, "")),
		"a bit":        put("one.txt", with(one, flipped(one.content, 5))),
		"the head":     put("one.txt", with(one, flipped(one.content, len(one.content)-60))),
		"half of each": put("one.txt", with(one, two.content)),
		"invented":     put("one.txt", with(one, agedFor(t, recipient, "an invented content"))),
		"bare":         put("one.txt", file{one.content, nil}),
		"one more":     put("three.txt", file{agedFor(t, recipient, "an invented content"), nil}),
		"renamed":      put("three.txt", one),
		"of another":   put("one.txt", get("b/one.txt")),
		"no mark":      gone("spindle-sealed.json"),
		"other mark":   put("spindle-sealed.json", get("b/spindle-sealed.json")),
		"a long mark":  put("spindle-sealed.json", with(mark, mark.content+strings.Repeat(" ", 1<<20))),
		"no recipient": put("spindle-sealed.json", with(mark, strings.Replace(mark.content, recipient, "", 1))),
		"another salt": put("spindle-sealed.json", with(mark, strings.Replace(get("b/spindle-sealed.json").content,
			"\"recipient\"", "\"recipient\": \"\", \"was\"", 1))),
	} {
		put("one.txt", one)()
		put("two.txt", two)()
		put("spindle-sealed.json", mark)()
		gone("three.txt")()
		change()
		to := filepath.Join(t.TempDir(), "back")
		line := strings.Fields("sync recover --from " + s.WireURL + "/kept/a/ --key " + harness.Key + " --secret-from " +
			dir +
			"/secret --passphrase-from " + dir + "/words --to " + to + " --yes")
		code, out, errs := run(t, nil, "", line...)
		if (code == 0) != (what == "nothing" || what == "no recipient") {
			t.Errorf("%s: code %d\n%s%s", what, code, out, errs)
		}
		files, err := os.ReadDir(to)
		if err != nil && !os.IsNotExist(err) {
			t.Fatal(err)
		}
		for _, f := range files {
			b, err := os.ReadFile(filepath.Join(to, f.Name()))
			want := map[string]string{"one.txt": "the first content", "two.txt": "the other content"}[f.Name()]
			if err != nil || string(b) != want && f.Name() != "spindle-sealed-key.age" {
				t.Errorf("%s: %s came back as %q, %v", what, f.Name(), b, err)
			}
		}
	}
}

// flipped has a bit of a byte from the end changed.
func flipped(s string, fromEnd int) string {
	i := len(s) - fromEnd
	return s[:i] + string([]byte{s[i] ^ 1}) + s[i+1:]
}

// agedFor seals a content for whoever a mark names, as anybody can.
func agedFor(t *testing.T, recipient, content string) string {
	t.Helper()
	r, err := age.ParseX25519Recipient(recipient)
	if err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	w, err := age.Encrypt(&b, r)
	if err == nil {
		_, err = io.WriteString(w, content)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	return b.String()
}
