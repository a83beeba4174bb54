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
		door.BodyOf(r).Refuse(w)
		http.Error(w, "there is no room", http.StatusInsufficientStorage)
	}))
	go h.Serve(d.Listener(l))
	t.Cleanup(func() { h.Close() })
	for _, size := range []int{1 << 20, 5 << 20, 40 << 20} {
		conn, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		_, err = io.WriteString(conn, "PUT /part HTTP/1.1\r\nHost: here\r\nContent-Length: "+strconv.Itoa(size)+"\r\n\r\n")
		const stretches = 16 // over two seconds
		for i := 0; i < stretches && err == nil; i++ {
			time.Sleep(2 * time.Second / stretches)
			_, err = conn.Write(make([]byte, size/stretches))
		}
		if err != nil {
			t.Errorf("%d bytes: cut off while sending: %v", size, err)
			continue
		}
		resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
		if err != nil {
			t.Errorf("%d bytes: %v", size, err)
			continue
		}
		b, err := io.ReadAll(resp.Body)
		if err != nil || resp.StatusCode != http.StatusInsufficientStorage || !strings.Contains(string(b), "no room") {
			t.Errorf("%d bytes: %d %s, %v", size, resp.StatusCode, b, err)
		}
	}
}
