package server_test

import (
	"crypto/md5"
	"encoding/hex"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"spindle/internal/catalog"
	"spindle/internal/core/object"
	"spindle/internal/harness"
	"spindle/internal/works/orders"
)

const (
	aes      = "AES256"
	sse      = "X-Amz-Server-Side-Encryption"
	sealRule = `<ServerSideEncryptionConfiguration><Rule><ApplyServerSideEncryptionByDefault><SSEAlgorithm>AES256</SSEAlgorithm></ApplyServerSideEncryptionByDefault></Rule></ServerSideEncryptionConfiguration>`
)

// onDisk reports whether a text stands anywhere on the volume.
func onDisk(t *testing.T, s *harness.Running, text string) bool {
	t.Helper()
	found := false
	err := filepath.WalkDir(filepath.Join(s.Config.Data, "volumes"), func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		found = found || strings.Contains(string(b), text)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return found
}

func TestEncryptionAtRest(t *testing.T) {
	s := harness.Service(t, nil)
	do := func(method, path string, header map[string]string, body string, status int) (string, string) {
		t.Helper()
		st, h, b := s.Do(method, path, header, body, true)
		want(t, method+" "+path, st, b, status)
		return h.Get(sse), b
	}
	mark := "Fagus sylvatica, specimen 4217, "
	text := strings.Repeat(mark, 20_000) // 640,000 bytes
	do("PUT", "/loans", nil, "", 200)
	if st, _, b := s.Do("GET", "/loans?encryption=", nil, "", true); st != 404 ||
		!strings.Contains(b, "ServerSideEncryptionConfigurationNotFoundError") {
		t.Errorf("the document of a plain bucket: %d %s", st, b)
	}
	if got, _ := do("PUT", "/loans/plain", nil, mark+"plain", 200); got != "" {
		t.Errorf("a plain put says %q", got)
	}
	if got, _ := do("PUT", "/loans/asked", map[string]string{sse: aes}, mark+"asked for", 200); got != aes {
		t.Errorf("a put that asks for it says %q", got)
	}
	do("PUT", "/loans?encryption=", nil, sealRule, 200)
	if _, b := do("GET", "/loans?encryption=", nil, "", 200); !strings.Contains(b, "<SSEAlgorithm>AES256</SSEAlgorithm>") {
		t.Errorf("the document: %s", b)
	}
	for name, body := range map[string]string{"small": mark + "small", "large": text} {
		if got, _ := do("PUT", "/loans/"+name, nil, body, 200); got != aes {
			t.Errorf("%s: the put says %q", name, got)
		}
		got, b := do("GET", "/loans/"+name, nil, "", 200)
		if got != aes || b != body {
			t.Errorf("%s: the get says %q and gives %d bytes", name, got, len(b))
		}
		for _, r := range []string{"bytes=5-20", "bytes=-7", fmt.Sprintf("bytes=%d-", len(body)/2)} {
			if _, b := do("GET", "/loans/"+name, map[string]string{"Range": r}, "", 206); !strings.Contains(body, b) || b == "" {
				t.Errorf("%s, %s: %q", name, r, b)
			}
		}
		if got, _ := do("HEAD", "/loans/"+name, nil, "", 200); got != aes {
			t.Errorf("%s: the head says %q", name, got)
		}
	}
	for what, text := range map[string]string{"small": mark + "small", "large": mark + mark, "asked for": mark + "asked"} {
		if onDisk(t, s, text) {
			t.Errorf("what should be sealed stands plain on the volume: %s", what)
		}
	}
	if !onDisk(t, s, mark+"plain") {
		t.Error("the search of the volume finds nothing: it proves nothing")
	}

	// A copy from a plain bucket, whole and in parts, is sealed; one within a bucket stays as it is.
	do("PUT", "/attic", nil, "", 200)
	do("PUT", "/attic/one", nil, mark+"from the attic", 200)
	parts := []string{bytesOf(1, minPart), mark + "the second part"}
	id := start(t, s, "/attic/two", nil)
	e1, e2 := sendPart(t, s, "/attic/two", id, 1, parts[0], nil), sendPart(t, s, "/attic/two", id, 2, parts[1], nil)
	do("POST", "/attic/two?uploadId="+id, nil, completion(1, e1, 2, e2), 200)
	for name, body := range map[string]string{"one": mark + "from the attic", "two": strings.Join(parts, "")} {
		if got, b := do("PUT", "/loans/"+name, map[string]string{"x-amz-copy-source": "/attic/" + name}, "",
			200); got != aes {
			t.Errorf("the copy of %s says %q: %s", name, got, b)
		}
		if got, b := do("GET", "/loans/"+name, nil, "", 200); got != aes || b != body {
			t.Errorf("the copy of %s: %q, %d bytes", name, got, len(b))
		}
		_, was, _ := s.Do("HEAD", "/attic/"+name, nil, "", true)
		_, is, _ := s.Do("HEAD", "/loans/"+name, nil, "", true)
		if was.Get("ETag") != is.Get("ETag") || was.Get(sse) != "" {
			t.Errorf("%s: the ETag was %s and is %s; the source says %q", name, was.Get("ETag"), is.Get("ETag"), was.Get(sse))
		}
	}

	// An upload in parts into the sealed bucket.
	id = start(t, s, "/loans/parts", nil)
	e1, e2 = sendPart(t, s, "/loans/parts", id, 1, parts[0], nil),
		sendPart(t, s, "/loans/parts", id, 2, mark+"sealed part", nil)
	if got, _ := do("POST", "/loans/parts?uploadId="+id, nil, completion(1, e1, 2, e2), 200); got != aes {
		t.Errorf("completing says %q", got)
	}
	if got, b := do("GET", "/loans/parts", map[string]string{"Range": fmt.Sprintf("bytes=%d-%d", minPart-4,
		minPart+len(mark)-1)}, "", 206); got != aes || b != parts[0][minPart-4:]+mark {
		t.Errorf("a range across sealed parts: %q %q", got, b)
	}
	if onDisk(t, s, mark+"sealed part") {
		t.Error("a part stands plain on the volume")
	}

	// What was there already is converted, and back.
	if got, _ := do("HEAD", "/loans/plain", nil, "", 200); got != "" {
		t.Errorf("what was plain says %q before it is converted", got)
	}
	convert(t, s, "loans")
	if got, b := do("GET", "/loans/plain", nil, "", 200); got != aes || b != mark+"plain" {
		t.Errorf("converted: %q %q", got, b)
	}
	do("DELETE", "/loans?encryption=", nil, "", 204)
	convert(t, s, "loans")
	for _, name := range []string{"plain", "small", "large", "one", "two", "parts"} {
		if got, _ := do("HEAD", "/loans/"+name, nil, "", 200); got != "" {
			t.Errorf("%s, converted back, says %q", name, got)
		}
	}
	sum := md5.Sum([]byte(text))
	if _, b := do("GET", "/loans/large", nil, "", 200); b != text {
		t.Errorf("converted back: %d bytes, want the MD5 %s", len(b), hex.EncodeToString(sum[:]))
	}
}

func convert(t *testing.T, s *harness.Running, bucket string) {
	t.Helper()
	name, err := object.ParseBucketName(bucket)
	if err != nil {
		t.Fatal(err)
	}
	id, err := orders.Order(t.Context(), s.Store, &catalog.Order{Kind: "convert", Bucket: name},
		catalog.Author{Who: harness.Key})
	if err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "the conversion is done", func() bool {
		o, err := s.Store.Catalog.Order(t.Context(), id)
		if err != nil || o.State == catalog.OrderFailed {
			t.Fatalf("the conversion: %+v, %v", o, err)
		}
		if o.State == catalog.OrderDone && o.Progress.Counts["converted"] == 0 {
			t.Fatalf("nothing was converted: %+v", o.Progress)
		}
		return o.State == catalog.OrderDone
	})
}
