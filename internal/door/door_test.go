package door_test

import (
	"bufio"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	"spindle/internal/door"
)

// A client that sends all of its body before it reads the answer reads why it was refused, and
// is not cut off.
func TestARefusedBodyIsAnswered(t *testing.T) {
	d := door.New(door.Settings{Quiet: 10 * time.Second, Most: 10, MostEach: 10, Log: slog.New(slog.DiscardHandler)})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	h := d.Server(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.CopyN(io.Discard, r.Body, r.ContentLength/8) // the disk is full in the middle
		door.BodyOf(r).Refuse(w)
		http.Error(w, "there is no room", http.StatusInsufficientStorage)
	}))
	go h.Serve(d.Listener(l))
	t.Cleanup(func() { h.Close() })
	for what, header := range map[string]string{"sent at once": "",
		"sent when told to": "Expect: 100-continue\r\n"} {
		for _, size := range []int{1 << 20, 5 << 20, 40 << 20} {
			t.Run(what+", "+strconv.Itoa(size), func(t *testing.T) {
				t.Parallel()
				sendRefused(t, l.Addr().String(), header, size)
			})
		}
	}
}

// sendRefused sends a body of a size over two seconds, and then wants to read that there is no room.
func sendRefused(t *testing.T, addr, header string, size int) {
	t.Helper()
	conn, err := net.Dial("tcp", addr)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	answers := bufio.NewReader(conn)
	_, err = io.WriteString(conn, "PUT /part HTTP/1.1\r\nHost: here\r\n"+header+
		"Content-Length: "+strconv.Itoa(size)+"\r\n\r\n")
	if header != "" && err == nil {
		_, err = http.ReadResponse(answers, nil) // go on
	}
	const stretches = 16
	for i := 0; i < stretches && err == nil; i++ {
		time.Sleep(2 * time.Second / stretches)
		_, err = conn.Write(make([]byte, size/stretches))
	}
	if err != nil {
		t.Fatalf("cut off while sending: %v", err)
	}
	resp, err := http.ReadResponse(answers, nil)
	if err != nil {
		t.Fatal(err)
	}
	b, err := io.ReadAll(resp.Body)
	if err != nil || resp.StatusCode != http.StatusInsufficientStorage || !strings.Contains(string(b), "no room") {
		t.Errorf("%d %s, %v", resp.StatusCode, b, err)
	}
}

// An answer that is small comes with its length and in one piece, however it was written; one
// that is large or flushed as it comes; a handler that says nothing has its empty 200.
func TestAnswersInOnePiece(t *testing.T) {
	large := strings.Repeat("moor ", 20_000)
	for what, c := range map[string]struct {
		h      http.HandlerFunc
		status int
		body   string
		known  bool // its length
	}{
		"two writes": {func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(http.StatusConflict)
			_, _ = io.WriteString(w, strings.Repeat("a", 3000))
			_, _ = io.WriteString(w, strings.Repeat("b", 3000))
		}, http.StatusConflict, strings.Repeat("a", 3000) + strings.Repeat("b", 3000), true},
		"large": {func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, large[:1000])
			_, _ = io.WriteString(w, large[1000:])
		}, http.StatusOK, large, false},
		"flushed": {func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, "first")
			_ = http.NewResponseController(w).Flush()
			_, _ = io.WriteString(w, "second")
		}, http.StatusOK, "firstsecond", false},
		"a status alone": {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) },
			http.StatusNoContent, "", false},
		"nothing": {func(http.ResponseWriter, *http.Request) {}, http.StatusOK, "", true},
	} {
		t.Run(what, func(t *testing.T) {
			d := door.New(door.Settings{Quiet: 10 * time.Second, Most: 10, MostEach: 10, Log: slog.New(slog.DiscardHandler)})
			l, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			h := d.Server(door.InOnePiece(c.h))
			go h.Serve(d.Listener(l))
			t.Cleanup(func() { h.Close() })
			for range 2 { // the connection is good for another
				resp, err := http.Get("http://" + l.Addr().String())
				if err != nil {
					t.Fatal(err)
				}
				b, err := io.ReadAll(resp.Body)
				resp.Body.Close()
				if err != nil || resp.StatusCode != c.status || string(b) != c.body {
					t.Errorf("%d with %d bytes, %v", resp.StatusCode, len(b), err)
				}
				if known := resp.ContentLength >= 0; c.body != "" && known != c.known {
					t.Errorf("its length is %d", resp.ContentLength)
				}
			}
		})
	}
}
