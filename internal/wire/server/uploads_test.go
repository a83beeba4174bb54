package server_test

import (
	"bytes"
	"crypto/md5"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"encoding/xml"
	"fmt"
	"hash/crc32"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/wire/client"
)

const minPart = 5 << 20

// bytesOf gives n bytes that no other seed gives.
func bytesOf(seed uint64, n int) string {
	r := rand.New(rand.NewPCG(seed, 5))
	b := make([]byte, n)
	for i := 0; i < n; i += 8 {
		var w [8]byte
		binary.LittleEndian.PutUint64(w[:], r.Uint64())
		copy(b[i:], w[:])
	}
	return string(b)
}

func start(t *testing.T, s *harness.Running, path string, header map[string]string) string {
	t.Helper()
	st, _, b := s.Do("POST", path+"?uploads=", header, "", true)
	var d struct{ UploadId string }
	if err := xml.Unmarshal([]byte(b), &d); err != nil || st != 200 || d.UploadId == "" {
		t.Fatalf("starting an upload: %d %s", st, b)
	}
	return d.UploadId
}

func sendPart(t *testing.T, s *harness.Running, path, id string, n int, body string, header map[string]string) string {
	t.Helper()
	st, h, b := s.Do("PUT", fmt.Sprintf("%s?partNumber=%d&uploadId=%s", path, n, id), header, body, true)
	want(t, fmt.Sprint("part ", n), st, b, 200)
	return h.Get("ETag")
}

func completion(parts ...any) string {
	d := "<CompleteMultipartUpload>"
	for i := 0; i < len(parts); i += 2 {
		d += fmt.Sprintf("<Part><PartNumber>%d</PartNumber><ETag>%s</ETag></Part>", parts[i], parts[i+1])
	}
	return d + "</CompleteMultipartUpload>"
}

func TestAnUploadInParts(t *testing.T) {
	s := harness.Service(t, nil)
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	one, two, three := bytesOf(1, minPart), bytesOf(2, minPart+12345), bytesOf(3, 70_000)
	whole := one + two + three
	path := "/plates/big/sheet.tif"
	id := start(t, s, path, map[string]string{"x-amz-meta-taxon": "Erica", "Content-Type": "image/tiff",
		"x-amz-tagging": "state=new"})
	// Out of order, one twice: the last one counts.
	e3 := sendPart(t, s, path, id, 7, three, nil)
	sendPart(t, s, path, id, 2, bytesOf(9, minPart), nil)
	e1 := sendPart(t, s, path, id, 1, one, nil)
	e2 := sendPart(t, s, path, id, 2, two, nil)
	left := sendPart(t, s, path, id, 9, bytesOf(4, 100), nil)
	st, _, b := s.Do("GET", path+"?uploadId="+id+"&max-parts=2", nil, "", true)
	want(t, "parts", st, b, 200, "<NextPartNumberMarker>2</NextPartNumberMarker>", "<IsTruncated>true</IsTruncated>",
		"<ETag>&quot;"+strings.Trim(e2, `"`))
	st, _, b = s.Do("GET", path+"?uploadId="+id+"&part-number-marker=2", nil, "", true)
	want(t, "parts", st, b, 200, "<PartNumber>7</PartNumber>", "<PartNumber>9</PartNumber>",
		"<IsTruncated>false</IsTruncated>")
	st, _, b = s.Do("GET", path, nil, "", true)
	want(t, "before it is complete", st, b, 404, "NoSuchKey")

	for what, x := range map[string]struct{ doc, code string }{
		"nothing":            {"<CompleteMultipartUpload></CompleteMultipartUpload>", "MalformedXML"},
		"no document":        {"<Complete></Complete>", "MalformedXML"},
		"the wrong order":    {completion(2, e2, 1, e1), "InvalidPartOrder"},
		"a part twice":       {completion(1, e1, 1, e1), "InvalidPartOrder"},
		"a missing part":     {completion(1, e1, 3, e2), "InvalidPart"},
		"another ETag":       {completion(1, e2, 2, e2), "InvalidPart"},
		"no ETag":            {completion(1, "x", 2, e2), "InvalidPart"},
		"a small part early": {completion(7, e3, 9, left), "EntityTooSmall"},
	} {
		st, _, b := s.Do("POST", path+"?uploadId="+id, nil, x.doc, true)
		want(t, "completing with "+what, st, b, 400, x.code)
	}
	st, _, b = s.Do("POST", path+"?uploadId="+id, map[string]string{"x-amz-mp-object-size": "7"},
		completion(1, e1, 2, e2, 7, e3), true)
	want(t, "completing with another size", st, b, 400)

	// Two complete at once: both hear the same.
	var wg sync.WaitGroup
	answers := make([]string, 2)
	for i := range answers {
		wg.Go(func() {
			st, _, b := s.Do("POST", path+"?uploadId="+id, nil, completion(1, e1, 2, e2, 7, e3), true)
			want(t, "complete", st, b, 200)
			answers[i] = b
		})
	}
	wg.Wait()
	sums := md5.New()
	for _, p := range []string{one, two, three} {
		m := md5.Sum([]byte(p))
		sums.Write(m[:])
	}
	etag := hex.EncodeToString(sums.Sum(nil)) + "-3"
	if answers[0] != answers[1] || !strings.Contains(answers[0], etag) {
		t.Errorf("completed twice:\n%s\n%s\nwant the ETag %s", answers[0], answers[1], etag)
	}
	st, h, got := s.Do("GET", path, map[string]string{"x-amz-checksum-mode": "ENABLED"}, "", true)
	var crc [8]byte
	binary.BigEndian.PutUint64(crc[:], digest.CRC64([]byte(whole)))
	if st != 200 || got != whole || h.Get("ETag") != `"`+etag+`"` ||
		h.Get("x-amz-checksum-crc64nvme") != base64.StdEncoding.EncodeToString(crc[:]) ||
		h.Get("x-amz-meta-taxon") != "Erica" || h.Get("Content-Type") != "image/tiff" || h.Get("x-amz-tagging-count") != "1" {
		t.Errorf("got back %d, %d bytes, equal: %v, %v", st, len(got), got == whole, h)
	}
	// Ranges across the seams, and by part number.
	for _, r := range [][2]int{{0, 0}, {minPart - 1, minPart}, {minPart - 10, len(whole) - 1},
		{len(one) + len(two) - 1, len(one) + len(two) + 5}, {100, len(whole) - 100}} {
		st, _, got := s.Do("GET", path, map[string]string{"Range": fmt.Sprintf("bytes=%d-%d", r[0], r[1])}, "", true)
		if st != 206 || got != whole[r[0]:r[1]+1] {
			t.Errorf("bytes %v: %d, %d bytes, equal: %v", r, st, len(got), got == whole[r[0]:r[1]+1])
		}
	}
	for n, p := range map[string]string{"1": one, "2": two, "7": three} {
		st, h, got := s.Do("GET", path+"?partNumber="+n, nil, "", true)
		if st != 206 || got != p || h.Get("x-amz-mp-parts-count") != "3" {
			t.Errorf("part %s: %d, %d bytes, %v", n, st, len(got), h)
		}
	}
	for n, status := range map[string]int{"3": 416, "0": 400, "10001": 400} {
		st, _, b := s.Do("GET", path+"?partNumber="+n, nil, "", true)
		want(t, "part number "+n, st, b, status)
	}
	st, _, b = s.Do("GET", path+"?attributes=",
		map[string]string{"x-amz-object-attributes": "ETag,Checksum,ObjectParts,ObjectSize,StorageClass"}, "", true)
	want(t, "attributes", st, b, 200, "<TotalPartsCount>3</TotalPartsCount>",
		fmt.Sprintf("<ObjectSize>%d</ObjectSize>", len(whole)), "<ETag>"+etag, "<PartNumber>7</PartNumber>")
	// The upload is over.
	for _, x := range [][2]string{{"GET", "?uploadId=" + id}, {"DELETE", "?uploadId=" + id},
		{"PUT", "?partNumber=1&uploadId=" + id}} {
		st, _, b := s.Do(x[0], path+x[1], nil, "", true)
		want(t, x[0]+" of what is completed", st, b, 404, "NoSuchUpload")
	}
	// It copies, and its parts can be parts of another.
	st, _, b = s.Do("PUT", "/plates/copy", map[string]string{"x-amz-copy-source": path}, "", true)
	want(t, "copy", st, b, 200)
	other := start(t, s, "/plates/other", nil)
	st, _, b = s.Do("PUT", "/plates/other?partNumber=1&uploadId="+other,
		map[string]string{"x-amz-copy-source": path, "x-amz-copy-source-range": fmt.Sprintf("bytes=5-%d", minPart+4)}, "",
		true)
	want(t, "copy a range", st, b, 200, "<CopyPartResult")
	var part struct{ ETag string }
	if err := xml.Unmarshal([]byte(b), &part); err != nil {
		t.Fatal(err)
	}
	st, _, b = s.Do("PUT", "/plates/other?partNumber=2&uploadId="+other,
		map[string]string{"x-amz-copy-source": path, "x-amz-copy-source-range": fmt.Sprintf("bytes=0-%d", len(whole))}, "",
		true)
	want(t, "copy a range beyond the end", st, b, 400, "InvalidArgument")
	e := sendPart(t, s, "/plates/other", other, 2, "the end", nil)
	st, _, b = s.Do("POST", "/plates/other?uploadId="+other, nil, completion(1, part.ETag, 2, e), true)
	want(t, "complete of copies", st, b, 200)
	if _, _, got := s.Do("GET", "/plates/other", nil, "", true); got != whole[5:minPart+5]+"the end" {
		t.Errorf("of copies: %d bytes", len(got))
	}
	if _, _, got := s.Do("GET", "/plates/copy", nil, "", true); got != whole {
		t.Errorf("the copy: %d bytes", len(got))
	}
}

func TestChecksumsOfParts(t *testing.T) {
	s := harness.Service(t, nil)
	if err := s.Client().CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	one, two := bytesOf(1, minPart), bytesOf(2, 1000)
	b64 := func(b []byte) string { return base64.StdEncoding.EncodeToString(b) }
	crc := func(p string) []byte { return binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE([]byte(p))) }
	sha := func(p string) []byte { h := sha256.Sum256([]byte(p)); return h[:] }
	// A CRC of the whole, worked out from the parts.
	id := start(t, s, "/plates/crc", map[string]string{"x-amz-checksum-algorithm": "CRC32",
		"x-amz-checksum-type": "FULL_OBJECT"})
	e1 := sendPart(t, s, "/plates/crc", id, 1, one, map[string]string{"x-amz-checksum-crc32": b64(crc(one))})
	e2 := sendPart(t, s, "/plates/crc", id, 2, two, nil)
	st, _, b := s.Do("PUT", "/plates/crc?partNumber=3&uploadId="+id,
		map[string]string{"x-amz-checksum-crc32": b64(crc(one))}, two, true)
	want(t, "a wrong checksum", st, b, 400, "BadDigest")
	st, _, b = s.Do("PUT", "/plates/crc?partNumber=3&uploadId="+id,
		map[string]string{"x-amz-checksum-sha256": b64(sha(two))}, two, true)
	want(t, "another kind", st, b, 400, "InvalidRequest")
	st, _, b = s.Do("PUT", "/plates/crc?partNumber=3&uploadId="+id,
		map[string]string{"Content-MD5": b64(make([]byte, 16))}, two, true)
	want(t, "a wrong MD5", st, b, 400, "BadDigest")
	st, _, b = s.Do("POST", "/plates/crc?uploadId="+id, map[string]string{"x-amz-checksum-crc32": b64(crc(two))},
		completion(1, e1, 2, e2), true)
	want(t, "a wrong checksum of the whole", st, b, 400, "BadDigest")
	st, _, b = s.Do("POST", "/plates/crc?uploadId="+id, map[string]string{"x-amz-checksum-crc32": b64(crc(one + two))},
		completion(1, e1, 2, e2), true)
	want(t, "complete", st, b, 200, "<ChecksumCRC32>"+b64(crc(one+two))+"</ChecksumCRC32>",
		"<ChecksumType>FULL_OBJECT</ChecksumType>")
	// One of the parts' checksums.
	id = start(t, s, "/plates/sha", map[string]string{"x-amz-checksum-algorithm": "SHA256"})
	e1 = sendPart(t, s, "/plates/sha", id, 1, one, nil)
	e2 = sendPart(t, s, "/plates/sha", id, 2, two, map[string]string{"x-amz-checksum-sha256": b64(sha(two))})
	doc := strings.Replace(completion(1, e1, 2, e2), "</ETag>",
		"</ETag><ChecksumSHA256>"+b64(sha(two))+"</ChecksumSHA256>", 1)
	st, _, b = s.Do("POST", "/plates/sha?uploadId="+id, nil, doc, true)
	want(t, "a part with another checksum", st, b, 400, "InvalidPart")
	st, _, b = s.Do("POST", "/plates/sha?uploadId="+id, nil, completion(1, e1, 2, e2), true)
	all := b64(sha(string(sha(one))+string(sha(two)))) + "-2"
	want(t, "complete", st, b, 200, "<ChecksumSHA256>"+all+"</ChecksumSHA256>", "<ChecksumType>COMPOSITE</ChecksumType>")
	_, h, _ := s.Do("HEAD", "/plates/sha", map[string]string{"x-amz-checksum-mode": "ENABLED"}, "", true)
	if h.Get("x-amz-checksum-sha256") != all || h.Get("x-amz-checksum-type") != "COMPOSITE" {
		t.Errorf("head: %v", h)
	}
	for what, header := range map[string]map[string]string{
		"an unknown algorithm":       {"x-amz-checksum-algorithm": "MD6"},
		"an unknown type":            {"x-amz-checksum-algorithm": "CRC32", "x-amz-checksum-type": "SOME"},
		"SHA-256 of the whole":       {"x-amz-checksum-algorithm": "SHA256", "x-amz-checksum-type": "FULL_OBJECT"},
		"CRC-64 of the parts' CRCs":  {"x-amz-checksum-algorithm": "CRC64NVME", "x-amz-checksum-type": "COMPOSITE"},
		"metadata that is too large": {"x-amz-meta-a": strings.Repeat("x", 2049)},
	} {
		st, _, b := s.Do("POST", "/plates/x?uploads=", header, "", true)
		want(t, what, st, b, 400)
	}
}

func TestUploadsAreListedAndAbandoned(t *testing.T) {
	s := harness.Service(t, nil)
	if err := s.Client().CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	ids := map[string]string{}
	for _, key := range []string{"a b", "d/1", "d/2", "e", "e"} {
		id := start(t, s, "/plates/"+strings.ReplaceAll(key, " ", "%20"), nil)
		ids[id] = key
	}
	for limit := 1; limit <= 6; limit++ {
		for _, fold := range []string{"", "&delimiter=%2F"} {
			seen, marker := 0, ""
			for range 10 {
				st, _, b := s.Do("GET", fmt.Sprintf("/plates?uploads=&encoding-type=url&max-uploads=%d%s%s", limit, fold, marker),
					nil, "", true)
				var d struct {
					IsTruncated                       bool
					NextKeyMarker, NextUploadIdMarker string
					Upload                            []struct{ Key, UploadId string }
					CommonPrefixes                    []struct{ Prefix string }
				}
				if err := xml.Unmarshal([]byte(b), &d); err != nil || st != 200 {
					t.Fatalf("%d %s", st, b)
				}
				for _, u := range d.Upload {
					if ids[u.UploadId] != strings.ReplaceAll(u.Key, "%20", " ") {
						t.Errorf("upload %s is of %s", u.UploadId, u.Key)
					}
				}
				seen += len(d.Upload) + len(d.CommonPrefixes)
				if !d.IsTruncated {
					break
				}
				marker = "&key-marker=" + d.NextKeyMarker + "&upload-id-marker=" + d.NextUploadIdMarker
			}
			if want := map[string]int{"": 5, "&delimiter=%2F": 4}[fold]; seen != want {
				t.Errorf("pages of %d%s list %d, want %d", limit, fold, seen, want)
			}
		}
	}
	for id, key := range ids {
		path := "/plates/" + strings.ReplaceAll(key, " ", "%20")
		sendPart(t, s, path, id, 1, "some bytes", nil)
		st, _, b := s.Do("DELETE", path+"?uploadId="+id, nil, "", true)
		want(t, "abandon", st, b, 204)
		st, _, b = s.Do("DELETE", path+"?uploadId="+id, nil, "", true)
		want(t, "abandon again", st, b, 404, "NoSuchUpload")
		st, _, b = s.Do("PUT", path+"?partNumber=2&uploadId="+id, nil, "late", true)
		want(t, "a part that comes late", st, b, 404, "NoSuchUpload")
	}
	st, _, b := s.Do("GET", "/plates?uploads=", nil, "", true)
	if st != http.StatusOK || strings.Contains(b, "<Upload>") {
		t.Errorf("left: %s", b)
	}
	id := start(t, s, "/plates/k", nil)
	for what, path := range map[string]string{"another key": "/plates/other?uploadId=" + id,
		"an unknown upload": "/plates/k?uploadId=nix"} {
		st, _, b := s.Do("GET", path, nil, "", true)
		want(t, what, st, b, 404, "NoSuchUpload")
	}
	for _, n := range []string{"0", "10001", "x", ""} {
		st, _, b := s.Do("PUT", "/plates/k?uploadId="+id+"&partNumber="+n, nil, "x", true)
		want(t, "part number "+n, st, b, 400, "InvalidArgument")
	}
	// A bucket may be removed with unfinished uploads; they go along.
	st, _, b = s.Do("DELETE", "/plates", nil, "", true)
	want(t, "removing the bucket", st, b, 204)
}

// TestNoRoomInTheMiddle fills the volume in the middle of an upload: what was
// acknowledged stays, the refusal says so, and with room again it goes on.
func TestNoRoomInTheMiddle(t *testing.T) {
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=13m"); err != nil {
		t.Skipf("a small disk cannot be made here: %v", err)
	}
	s := harness.Service(t, func(c *service.Config) { c.Data = dir })
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	id, err := c.StartUpload(t.Context(), "plates", "mosaic", client.Put{})
	if err != nil {
		t.Fatal(err)
	}
	part := bytes.Repeat([]byte("moor"), 5<<18)
	put := func(n int) (client.Part, error) {
		return c.PutPart(t.Context(), "plates", "mosaic", id, n, bytes.NewReader(part), int64(len(part)))
	}
	done := make([]client.Part, 3)
	if done[0], err = put(1); err != nil {
		t.Fatal(err)
	}
	// There is room for either of two, which arrive together, and not for both.
	var errs [3]error
	var wg sync.WaitGroup
	for n := 1; n <= 2; n++ {
		wg.Go(func() { done[n], errs[n] = put(n + 1) })
	}
	wg.Wait()
	failed := 0
	for n, err := range errs {
		if err != nil {
			failed = n + 1
			if k := fault.KindOf(err); k != fault.Full && k != fault.Unavailable || !strings.Contains(err.Error(), "volume") {
				t.Errorf("part %d without room: %v", n+1, err)
			}
		}
	}
	if failed == 0 {
		t.Fatal("there was room for all")
	}
	if there, err := c.Parts(t.Context(), "plates", "mosaic", id); err != nil || len(there) == 0 ||
		there[0].ETag != done[0].ETag {
		t.Errorf("after the refusal %v, %v", there, err)
	}
	if err := syscall.Mount("tmpfs", dir, "tmpfs", syscall.MS_REMOUNT, "size=40m"); err != nil {
		t.Fatal(err)
	}
	for n, err := range errs {
		if err == nil {
			continue
		}
		if done[n], err = put(n + 1); err != nil {
			t.Fatal(err)
		}
	}
	crc := digest.CRC64(slices.Concat(part, part, part))
	if _, err := c.CompleteUpload(t.Context(), "plates", "mosaic", id, done, int64(3*len(part)), &crc,
		client.Put{}); err != nil {
		t.Fatal(err)
	}
	if st, _, body := s.Do("GET", "/plates/mosaic", nil, "", true); st != 200 || len(body) != 3*len(part) {
		t.Errorf("%d, %d bytes", st, len(body))
	}
}
