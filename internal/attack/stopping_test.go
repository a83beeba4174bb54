package attack

import (
	"bufio"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/wire/sign"
)

// host gives HOST:PORT of an address.
func host(url string) string { return url[strings.Index(url, "://")+3:] }

// say opens a connection and says something on it.
func say(t *testing.T, address, what string) net.Conn {
	t.Helper()
	c, err := net.DialTimeout("tcp", address, 5*time.Second)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	if _, err := io.WriteString(c, what); err != nil {
		t.Fatal(err)
	}
	return c
}

// endsWithin reports whether the other end closes a connection in time.
func endsWithin(c net.Conn, d time.Duration) bool {
	_ = c.SetReadDeadline(time.Now().Add(d))
	_, err := io.Copy(io.Discard, c)
	ne, ok := err.(net.Error)
	return !ok || !ne.Timeout()
}

// TestSilenceIsNotWaitedFor keeps connections open that say nothing, or a little.
func TestSilenceIsNotWaitedFor(t *testing.T) {
	s := harness.Service(t, func(c *service.Config) { c.SlowAfter = time.Second })
	for name, c := range map[string]struct{ url, says string }{
		"nothing, wire":                {s.WireURL, ""},
		"nothing, desk":                {s.DeskURL, ""},
		"half a header, wire":          {s.WireURL, "GET / HTTP/1.1\r\nHost: x\r\n"},
		"half a header, desk":          {s.DeskURL, "GET / HTTP/1.1\r\nHost: x\r\n"},
		"a put without its body, wire": {s.WireURL, "PUT /plates/k HTTP/1.1\r\nHost: x\r\nContent-Length: 100000\r\n\r\n"},
		"a put without its body, desk": {s.DeskURL,
			"PUT /api/v1/buckets/plates/body?key=k HTTP/1.1\r\nHost: x\r\nContent-Length: 100000\r\n\r\n"},
		"a sign-in without its body": {s.DeskURL,
			"POST /api/v1/session HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\nContent-Type: application/json\r\n\r\n{"},
		"a get with a length, wire":  {s.WireURL, "GET / HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n\r\n"},
		"a get with a length, desk":  {s.DeskURL, "GET / HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n\r\n"},
		"a page with a length, desk": {s.DeskURL, "GET /readyz HTTP/1.1\r\nHost: x\r\nContent-Length: 100000\r\n\r\n"},
		"chunks that do not come, wire": {s.WireURL,
			"PUT /plates/k HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n"},
		"a body beneath expect, wire": {s.WireURL,
			"PUT /plates/k HTTP/1.1\r\nHost: x\r\nContent-Length: 100000\r\nExpect: 100-continue\r\n\r\n"},
		"a method that nobody knows":     {s.WireURL, "BREW / HTTP/1.1\r\nHost: x\r\nContent-Length: 5\r\n\r\n"},
		"an empty request and then some": {s.DeskURL, "\r\n"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			limit := 6 * time.Second
			if c.says == "" || c.says == "\r\n" {
				limit = 15 * time.Second // a header has ten seconds on the desk
			}
			if !endsWithin(say(t, host(c.url), c.says), limit) {
				t.Error("it is waited for")
			}
		})
	}
	// One byte now and then is no progress: the desk has a least rate too.
	t.Run("drops, desk", func(t *testing.T) {
		t.Parallel()
		r := newCall(t, s, "PUT", "/api/v1/buckets/plates/body?key=k", "").r
		must(t, s, owner, "POST", "/api/v1/buckets", `{"name":"plates"}`)
		sign.SignDesk(r, owner, "fenn", strings.Repeat("0", 64), time.Now())
		r.ContentLength = 100_000
		r.Body = io.NopCloser(&drops{})
		begun := time.Now()
		resp, err := http.DefaultTransport.RoundTrip(r)
		if err == nil {
			resp.Body.Close()
			if resp.StatusCode != http.StatusRequestTimeout {
				t.Errorf("status %d", resp.StatusCode)
			}
		}
		if took := time.Since(begun); took > 8*time.Second {
			t.Errorf("it was held for %s", took)
		}
	})
}

// drops gives a byte at a time, slowly.
type drops struct{}

func (*drops) Read(b []byte) (int, error) {
	time.Sleep(200 * time.Millisecond)
	b[0] = 'x'
	return 1, nil
}

// startLimited starts the program with few descriptors.
func startLimited(t *testing.T, descriptors int) (wireURL, deskURL string) {
	t.Helper()
	dir, err := os.MkdirTemp("", "spindle-attack-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o711); err != nil { // the database's user passes through
		t.Fatal(err)
	}
	cmd := exec.Command("bash", "-c",
		fmt.Sprintf("ulimit -n %d && exec %s serve --data %s/data --wire 127.0.0.1:0 --desk 127.0.0.1:0 --log-level error --slow-after 30s", descriptors, harness.Binary(t), dir))
	cmd.Env = append(os.Environ(), "SPINDLE_OWNER_KEY="+harness.Key, "SPINDLE_OWNER_SECRET="+harness.Secret)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Signal(syscall.SIGTERM); _ = cmd.Wait() })
	line, err := bufio.NewReader(out).ReadString('\n')
	rest, ok := strings.CutPrefix(line, "ready: wire ")
	if err != nil || !ok {
		t.Fatalf("not ready: %q, %v", line, err)
	}
	wireURL, deskURL, _ = strings.Cut(strings.TrimSpace(rest), ", desk ")
	return wireURL, deskURL
}

// TestConnectionsLeaveRoom holds more connections than the process has descriptors,
// which say nothing for as long as they are let, while others are answered.
func TestConnectionsLeaveRoom(t *testing.T) {
	wireURL, deskURL := startLimited(t, 512)
	signedGet := func() error {
		r, err := http.NewRequest("GET", wireURL+"/", nil)
		if err != nil {
			return err
		}
		sign.Sign(r, owner, "fenn", sign.EmptyHash, time.Now())
		resp, err := (&http.Client{Timeout: 3 * time.Second}).Do(r)
		if err != nil {
			return err
		}
		resp.Body.Close()
		if resp.StatusCode != 200 {
			return fmt.Errorf("status %d", resp.StatusCode)
		}
		return nil
	}
	if err := signedGet(); err != nil {
		t.Fatal(err)
	}
	for i := range 520 {
		address, says := host(wireURL), "PUT /plates/k HTTP/1.1\r\nHost: x\r\nContent-Length: 100000\r\n\r\n"
		switch i % 4 {
		case 1:
			says = ""
		case 2:
			says = "GET / HTTP/1.1\r\nHost: x\r\n"
		case 3:
			address = host(deskURL)
		}
		c, err := net.DialTimeout("tcp", address, 5*time.Second)
		if err != nil {
			t.Fatalf("connection %d: %v", i, err)
		}
		defer c.Close()
		_, _ = io.WriteString(c, says) // it may have been put out already
	}
	for range 20 {
		if err := signedGet(); err != nil {
			t.Errorf("a signed request: %v", err)
		}
		resp, err := (&http.Client{Timeout: 3 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}).
			Get(deskURL + "/readyz")
		if err != nil {
			t.Errorf("readiness: %v", err)
			continue
		}
		resp.Body.Close()
		if resp.StatusCode != 200 {
			t.Errorf("readiness: %d", resp.StatusCode)
		}
	}
	// The database and the volume still open files: a put of a body of its own.
	r, err := http.NewRequest("PUT", wireURL+"/plates", nil)
	if err != nil {
		t.Fatal(err)
	}
	sign.Sign(r, owner, "fenn", sign.EmptyHash, time.Now())
	if resp, err := http.DefaultClient.Do(r); err != nil || resp.StatusCode != 200 {
		t.Fatalf("%v %v", resp, err)
	}
	r, err = http.NewRequest("PUT", wireURL+"/plates/large", strings.NewReader(strings.Repeat("x", 1<<20)))
	if err != nil {
		t.Fatal(err)
	}
	sign.Sign(r, owner, "fenn", sign.Unsigned, time.Now())
	if resp, err := http.DefaultClient.Do(r); err != nil || resp.StatusCode != 200 {
		t.Errorf("a put meanwhile: %v %v", resp, err)
	}
}

// TestListingsNobodyReads asks for many large listings and reads none of them.
func TestListingsNobodyReads(t *testing.T) {
	s := harness.Service(t, func(c *service.Config) { c.SlowAfter = 2 * time.Second })
	wire(t, s, owner, "PUT", "/plates", "", 200)
	var wg sync.WaitGroup
	for w := range 8 {
		wg.Go(func() {
			for i := range 125 {
				s.As(owner, "PUT", fmt.Sprintf("/plates/%s%04d", strings.Repeat("%01", 900), w*125+i), nil,
					"") // each of these takes five bytes in a document
			}
		})
	}
	wg.Wait()
	s.Grant("plates", "", "anyone", "list")
	_, _, page := s.Do("GET", "/plates", nil, "", false)
	if len(page) < 3<<20 {
		t.Fatalf("a page has %d bytes", len(page))
	}
	for _, key := range []sign.Credential{{}, s.NewKey("herbarium", "reads nothing", access.Reader, nil)} {
		runtime.GC()
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		var held []net.Conn
		for range 60 {
			r, err := http.NewRequest("GET", s.WireURL+"/plates", nil)
			if err != nil {
				t.Fatal(err)
			}
			if key.ID != "" {
				sign.Sign(r, key, "fenn", sign.EmptyHash, time.Now())
			}
			var text strings.Builder
			if err := r.Write(&text); err != nil {
				t.Fatal(err)
			}
			c := say(t, host(s.WireURL), text.String())
			_ = c.(*net.TCPConn).SetReadBuffer(4 << 10)
			held = append(held, c)
		}
		time.Sleep(1500 * time.Millisecond)
		runtime.GC()
		runtime.ReadMemStats(&after)
		if grew := int64(after.HeapAlloc) - int64(before.HeapAlloc); grew > 250<<20 {
			t.Errorf("signed %v: 60 listings that nobody reads hold %d MiB", key.ID != "", grew>>20)
		}
		// They are put out, and while they were held others were answered.
		if _, err := s.Client().Head(t.Context(), "plates", strings.Repeat("\x01", 900)+"0001"); err != nil {
			t.Errorf("meanwhile: %v", err)
		}
		harness.Until(t, fmt.Sprintf("signed %v: they hold no more than 40 MiB", key.ID != ""), func() bool {
			runtime.GC()
			runtime.ReadMemStats(&after)
			return int64(after.HeapAlloc)-int64(before.HeapAlloc) <= 40<<20
		})
		for _, c := range held {
			c.Close()
		}
	}
	// Whoever reads, slowly but surely, gets all of it.
	r, err := http.NewRequest("GET", s.WireURL+"/plates", nil)
	if err != nil {
		t.Fatal(err)
	}
	resp, err := http.DefaultTransport.RoundTrip(r)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	n := 0
	for buf := make([]byte, 256<<10); ; {
		m, err := io.ReadFull(resp.Body, buf)
		n += m
		if err != nil {
			break
		}
		time.Sleep(300 * time.Millisecond)
	}
	if n != len(page) {
		t.Errorf("a slow reader gets %d of %d bytes", n, len(page))
	}
}

// TestDocumentsCostWhatTheyMay sends documents that cost more to take apart than to
// send.
func TestDocumentsCostWhatTheyMay(t *testing.T) {
	s := harness.Service(t, nil)
	wire(t, s, owner, "PUT", "/plates", "", 200)
	upload := wire(t, s, owner, "POST", "/plates/k?uploads=", "", 200)
	upload = upload[strings.Index(upload, "<UploadId>")+10 : strings.Index(upload, "</UploadId>")]
	many := func(root, element string, size int) string {
		return "<" + root + ">" + strings.Repeat(element, size/len(element)) + "</" + root + ">"
	}
	const most = 7 << 20
	complete := "/plates/k?uploadId=" + upload
	for name, c := range map[string]struct{ path, body string }{
		"empty parts":             {complete, many("CompleteMultipartUpload", "<Part/>", most)},
		"parts to an end":         {complete, many("CompleteMultipartUpload", "<Part></Part>", most)},
		"parts of no upload":      {"/plates/k?uploadId=none", many("CompleteMultipartUpload", "<Part/>", most)},
		"empty objects to remove": {"/plates?delete=", many("Delete", "<Object/>", most)},
		"objects with many things": {"/plates?delete=", many("Delete",
			"<Object><Key>k</Key><a/><a/><a/><a/><a/><a/></Object>", most)},
		"attributes":    {"/plates?delete=", "<Delete " + strings.Repeat(`a="" `, most/5) + "/>"},
		"comments":      {"/plates?delete=", many("Delete", "<!---->", most)},
		"instructions":  {"/plates?delete=", many("Delete", "<?a?>", most)},
		"one long text": {"/plates?delete=", many("Delete", "x", most)},
		"one long name": {"/plates?delete=", "<" + strings.Repeat("x", most) + "/>"},
		"depth":         {"/plates?delete=", strings.Repeat("<a>", most/3)},
		"tags":          {"/plates?tagging=", many("Tagging", "<TagSet/>", 60<<10)},
	} {
		runtime.GC()
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		method := "POST"
		if name == "tags" {
			method = "PUT"
		}
		st, _, b := s.As(owner, method, c.path, nil, c.body)
		runtime.ReadMemStats(&after)
		if st < 400 || st >= 500 {
			t.Errorf("%s: %d %s", name, st, b)
		}
		// What the service and this client allocated, the document itself not counted.
		if cost := int64(after.TotalAlloc - before.TotalAlloc); cost > 40<<20 {
			t.Errorf("%s: %d bytes cost %d MiB", name, len(c.body), cost>>20)
		}
	}
	// The desk's, also before anybody has signed in.
	for name, c := range map[string]struct{ path, body string }{
		"signing in":   {"/api/v1/session", `{"person":"` + strings.Repeat("x", 20<<10) + `"}`},
		"empty things": {"/api/v1/buckets/plates/remove", `{"versions":[` + strings.Repeat("{},", 300<<10) + `{}]}`},
		"depth":        {"/api/v1/buckets/plates/remove", strings.Repeat("[", 900<<10)},
		"size":         {"/api/v1/buckets/plates/remove", `{"keys":["` + strings.Repeat("x", 1<<20) + `"]}`},
	} {
		st, code, b := asks(t, s, owner, "POST", c.path, c.body)
		if st != 413 {
			t.Errorf("%s: %d %s %.200s", name, st, code, b)
		}
	}
}

// TestConnectionsOverTLS holds connections that never finish their handshake.
func TestConnectionsOverTLS(t *testing.T) {
	cert, key := certificate(t)
	s := harness.Service(t, func(c *service.Config) {
		c.SlowAfter, c.TLSCert, c.TLSKey = time.Second, cert, key
		c.Connections, c.ConnectionsEach = 20, 20
	})
	for range 30 {
		say(t, host(s.WireURL), "\x16\x03\x01")
	}
	hc := &http.Client{Timeout: 5 * time.Second,
		Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}} // the test's own certificate
	for range 5 {
		r, err := http.NewRequest("GET", s.WireURL+"/", nil)
		if err != nil {
			t.Fatal(err)
		}
		sign.Sign(r, owner, "fenn", sign.EmptyHash, time.Now())
		resp, err := hc.Do(r)
		if err != nil {
			t.Fatalf("a signed request: %v", err)
		}
		resp.Body.Close()
		if resp.StatusCode != 200 || resp.ProtoMajor != 1 {
			t.Errorf("status %d over HTTP/%d", resp.StatusCode, resp.ProtoMajor)
		}
	}
	if !endsWithin(say(t, host(s.WireURL), "\x16\x03\x01"), 6*time.Second) {
		t.Error("half a handshake is waited for")
	}
}
