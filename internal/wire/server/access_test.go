package server_test

import (
	"io"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/harness"
	"spindle/internal/wire/sign"
)

// attempt is one operation of the wire, and the right it needs.
type attempt struct {
	name   string
	method string
	path   string // of a bucket "theirs" with an object "k" and an upload UPLOAD
	header map[string]string
	body   string
	needs  string // list, read, write, remove, settings; signed; administer
}

var copyFrom = map[string]string{"x-amz-copy-source": "/theirs/k"}

// attempts has every operation that the server knows: a test fails for one that
// is missing.
var attempts = []attempt{
	{"ListBuckets", "GET", "/", nil, "", "signed"},
	{"CreateBucket", "PUT", "/brand-new", nil, "", "administer"},
	{"DeleteBucket", "DELETE", "/theirs", nil, "", "settings"},
	{"HeadBucket", "HEAD", "/theirs", nil, "", "list"},
	{"ListObjects", "GET", "/theirs", nil, "", "list"},
	{"ListObjectsV2", "GET", "/theirs?list-type=2", nil, "", "list"},
	{"ListObjectVersions", "GET", "/theirs?versions=", nil, "", "list"},
	{"ListMultipartUploads", "GET", "/theirs?uploads=", nil, "", "list"},
	{"GetBucketVersioning", "GET", "/theirs?versioning=", nil, "", "list"},
	{"PutBucketVersioning", "PUT", "/theirs?versioning=", nil,
		"<VersioningConfiguration><Status>Enabled</Status></VersioningConfiguration>", "settings"},
	{"GetBucketTagging", "GET", "/theirs?tagging=", nil, "", "list"},
	{"PutBucketTagging", "PUT", "/theirs?tagging=", nil, "<Tagging><TagSet></TagSet></Tagging>", "settings"},
	{"DeleteBucketTagging", "DELETE", "/theirs?tagging=", nil, "", "settings"},
	{"GetBucketEncryption", "GET", "/theirs?encryption=", nil, "", "list"},
	{"PutBucketEncryption", "PUT", "/theirs?encryption=", nil, sealRule, "settings"},
	{"DeleteBucketEncryption", "DELETE", "/theirs?encryption=", nil, "", "settings"},
	{"GetBucketLifecycleConfiguration", "GET", "/theirs?lifecycle=", nil, "", "list"},
	{"PutBucketLifecycleConfiguration", "PUT", "/theirs?lifecycle=", nil, "<LifecycleConfiguration/>", "settings"},
	{"DeleteBucketLifecycle", "DELETE", "/theirs?lifecycle=", nil, "", "settings"},
	{"GetBucketReplication", "GET", "/theirs?replication=", nil, "", "settings"},
	{"PutBucketReplication", "PUT", "/theirs?replication=", nil, "<ReplicationConfiguration/>", "settings"},
	{"DeleteBucketReplication", "DELETE", "/theirs?replication=", nil, "", "settings"},
	{"RestoreObject", "POST", "/theirs/k?restore=", nil, "<RestoreRequest/>", "read"},
	{"GetBucket:", "GET", "/theirs?acl=", nil, "", "list"},
	{"DeleteObjects", "POST", "/theirs?delete=", map[string]string{"Content-MD5": "5DKh5iefM5MSKvRILIuFwQ=="},
		"<Delete><Object><Key>k</Key></Object></Delete>", "remove"},
	{"GetObject", "GET", "/theirs/k", nil, "", "read"},
	{"GetObject", "GET", "/theirs/k?partNumber=1", nil, "", "read"},
	{"HeadObject", "HEAD", "/theirs/k", nil, "", "read"},
	{"HeadObject", "HEAD", "/theirs/k?partNumber=1", nil, "", "read"},
	{"GetObjectAttributes", "GET", "/theirs/k?attributes=", map[string]string{"x-amz-object-attributes": "ETag"}, "",
		"read"},
	{"GetObjectTagging", "GET", "/theirs/k?tagging=", nil, "", "read"},
	{"GetObject:", "GET", "/theirs/k?acl=", nil, "", "read"},
	{"PutObject", "PUT", "/theirs/new", nil, "x", "write"},
	{"CopyObject", "PUT", "/theirs/copy", copyFrom, "", "write"},
	{"CopyObject", "PUT", "/mine/copy", copyFrom, "", "read"},
	{"PutObjectTagging", "PUT", "/theirs/k?tagging=", nil, "<Tagging><TagSet></TagSet></Tagging>", "write"},
	{"DeleteObjectTagging", "DELETE", "/theirs/k?tagging=", nil, "", "write"},
	{"CreateMultipartUpload", "POST", "/theirs/k?uploads=", nil, "", "write"},
	{"UploadPart", "PUT", "/theirs/k?partNumber=1&uploadId=UPLOAD", nil, "x", "write"},
	{"UploadPartCopy", "PUT", "/theirs/k?partNumber=2&uploadId=UPLOAD", copyFrom, "", "write"},
	{"ListParts", "GET", "/theirs/k?uploadId=UPLOAD", nil, "", "write"},
	{"CompleteMultipartUpload", "POST", "/theirs/k?uploadId=UPLOAD", nil,
		"<CompleteMultipartUpload></CompleteMultipartUpload>", "write"},
	{"AbortMultipartUpload", "DELETE", "/theirs/k?uploadId=UPLOAD", nil, "", "write"},
	{"DeleteObject", "DELETE", "/theirs/k", nil, "", "remove"},
}

func TestEveryOperationIsTried(t *testing.T) {
	source, err := os.ReadFile("table.go")
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range regexp.MustCompile(`name: "([^"]+)"`).FindAllStringSubmatch(string(source), -1) {
		if !slices.ContainsFunc(attempts, func(a attempt) bool { return a.name == m[1] }) {
			t.Errorf("the operation %s is tried by nobody who may not do it: add it to attempts", m[1])
		}
	}
}

// TestNobodyDoesMore tries every operation as everybody who may not do it, and as
// those who just may.
func TestNobodyDoesMore(t *testing.T) {
	s := harness.Service(t, nil)
	setUp := func() string {
		t.Helper()
		st, _, b := s.Do("PUT", "/theirs", nil, "", true)
		if st != 200 && st != 409 {
			t.Fatalf("%d %s", st, b)
		}
		s.Do("PUT", "/theirs/k", nil, "content", true)
		return start(t, s, "/theirs/k", nil)
	}
	upload := setUp()
	limits := func(bucket, prefix string) func(*catalog.AccessKey) {
		return func(k *catalog.AccessKey) { k.Limits = catalog.Limits{{Bucket: bucket, Prefix: prefix}} }
	}
	past := time.Now().Add(-time.Hour)
	who := map[string]sign.Credential{"anyone": {}}
	who["stranger"] = s.NewKey("seed-lab", "stranger", access.Administrator, nil)
	who["reader"] = s.NewKey("herbarium", "reader", access.Reader, nil)
	who["writer"] = s.NewKey("herbarium", "writer", access.Writer, nil)
	who["limited elsewhere"] = s.NewKey("herbarium", "limited elsewhere", access.Administrator, limits("mine", ""))
	who["limited beneath"] = s.NewKey("herbarium", "limited beneath", access.Administrator, limits("theirs", "other/"))
	who["off"] = s.NewKey("herbarium", "off", access.Administrator, func(k *catalog.AccessKey) { k.Active = false })
	who["expired"] = s.NewKey("herbarium", "expired", access.Administrator,
		func(k *catalog.AccessKey) { k.Expires = &past })
	who["unknown"] = sign.Credential{ID: "NOBODYKNOWS", Secret: "whatever-it-is"}
	who["wrong secret"] = sign.Credential{ID: harness.Key, Secret: "not-the-secret"}
	granted := map[string]string{}
	for _, p := range append(access.PurposeNames(), "list", "read", "write", "remove", "settings") {
		who["granted "+p] = s.NewKey("seed-lab", "granted "+p, access.Reader, nil)
		granted["granted "+p] = p
		s.Grant("theirs", "", "key:"+who["granted "+p].ID, p)
	}
	who["reader of a granted account"] = s.NewKey("guest-curators", "reader", access.Reader, nil)
	s.Grant("theirs", "", "account:guest-curators", "write into")
	if st, _, b := s.As(who["stranger"], "PUT", "/mine", nil, ""); st != 200 {
		t.Fatalf("%d %s", st, b)
	}
	s.Grant("mine", "", "account:herbarium", "administer")
	for _, id := range []string{"granted read from", "granted read", "granted write into", "granted replicate into",
		"granted administer", "granted list", "granted write", "granted remove", "granted settings"} {
		s.Grant("mine", "", "key:"+who[id].ID, "write into")
	}

	may := func(name string, a attempt) bool {
		switch a.needs {
		case "signed":
			return !slices.Contains([]string{"anyone", "off", "expired", "unknown", "wrong secret"}, name)
		case "administer":
			return name == "stranger"
		}
		switch name {
		case "reader":
			return strings.HasPrefix(a.path, "/theirs") && (a.needs == "list" || a.needs == "read")
		case "writer":
			return a.needs != "settings"
		case "limited beneath":
			// The bucket as such, whose listing of everything it may not see.
			return a.needs == "list" && !strings.Contains(a.name, "List") && a.name != "GetBucketTagging" &&
				a.name != "GetBucketLifecycleConfiguration" ||
				a.name == "DeleteObjects"
		case "reader of a granted account":
			return strings.HasPrefix(a.path, "/theirs") && a.needs == "list"
		}
		p, ok := granted[name]
		if !ok {
			return false
		}
		rights, _ := access.ParseRights(p)
		need, _ := access.ParseRight(a.needs)
		if a.name == "CopyObject" || a.name == "UploadPartCopy" {
			need |= access.Read
			if strings.HasPrefix(a.path, "/mine") {
				return rights&access.Read != 0
			}
		}
		return rights&need == need
	}
	for _, a := range attempts {
		for name, key := range who {
			path := strings.ReplaceAll(a.path, "UPLOAD", upload)
			st, _, b := s.As(key, a.method, path, a.header, a.body)
			refused := st == http.StatusForbidden
			if outside := name == "stranger" || name == "anyone" || name == "unknown"; outside &&
				(strings.Contains(b, "herbarium") || strings.Contains(b, harness.Key)) {
				t.Errorf("%s as %s tells of another account: %s", a.name, name, b)
			}
			if a.name == "DeleteObjects" && strings.Contains(b, "<Code>AccessDenied</Code>") {
				refused = true // key by key
			}
			allowed := may(name, a) && !(a.name == "DeleteObjects" && name == "limited beneath")
			if refused == allowed {
				t.Errorf("%s %s %s as %s: status %d, and it may: %v\n%s", a.name, a.method, path, name, st, allowed, b)
			}
			if allowed && a.method != "GET" && a.method != "HEAD" {
				s.Do("DELETE", "/brand-new", nil, "", true)
				upload = setUp()
				if a.name == "DeleteBucket" { // never empty here, so it stays
					continue
				}
			}
		}
	}
}

// TestOpenToAnyone reads without a signature what was opened, and nothing else.
func TestOpenToAnyone(t *testing.T) {
	s := harness.Service(t, nil)
	s.Do("PUT", "/plates", nil, "", true)
	for _, path := range []string{"/plates/open/list.txt", "/plates/closed.txt"} {
		s.Do("PUT", path, nil, "text", true)
	}
	get := func(path string) int {
		t.Helper()
		st, _, _ := s.Do("GET", path, nil, "", false)
		return st
	}
	if st := get("/plates/open/list.txt"); st != 403 {
		t.Errorf("before: %d", st)
	}
	id := s.Grant("plates", "open/", "anyone", "read from")
	for path, status := range map[string]int{"/plates/open/list.txt": 200, "/plates/open/none": 404,
		"/plates/closed.txt": 403, "/plates/none": 403, "/plates?prefix=open/": 200, "/plates": 403, "/plates?prefix=": 403,
		"/plates/open/list.txt?response-content-type=text/html": 403, "/nothing/open/list.txt": 403} {
		if st := get(path); st != status {
			t.Errorf("%s: %d, want %d", path, st, status)
		}
	}
	if st, _, b := s.Do("PUT", "/plates/open/new", nil, "x", false); st != 403 {
		t.Errorf("writing: %d %s", st, b)
	}
	if _, _, b := s.Do("GET", "/plates?policyStatus=", nil, "", true); !strings.Contains(b, "<IsPublic>true</IsPublic>") {
		t.Errorf("the status: %s", b)
	}
	if err := s.Store.Catalog.RemoveGrant(t.Context(), id, catalog.Author{At: time.Now(), Who: "the test"}); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "the grant works no more", func() bool { return get("/plates/open/list.txt") == 403 })
}

// TestKeysEndInTheMiddle switches off, lets expire and removes keys while they
// send and receive.
func TestKeysEndInTheMiddle(t *testing.T) {
	s := harness.Service(t, nil)
	s.Do("PUT", "/plates", nil, "", true)
	s.Do("PUT", "/plates/large", nil, strings.Repeat("0123456789abcdef", 1<<20), true) // 16 MiB
	by := catalog.Author{At: time.Now(), Who: "the test"}
	soon := time.Now().Add(2500 * time.Millisecond)
	ends := map[string]func(id string) error{
		"off": func(id string) error {
			return s.Store.Catalog.ChangeKey(t.Context(), id, 0, by,
				func(k *catalog.AccessKey) error { k.Active = false; return nil })
		},
		"removed": func(id string) error { return s.Store.Catalog.RemoveKey(t.Context(), id, by) },
		"expired": func(string) error { return nil },
		"demoted": func(id string) error {
			return s.Store.Catalog.ChangeKey(t.Context(), id, 0, by,
				func(k *catalog.AccessKey) error { k.Limits = catalog.Limits{{Bucket: "other"}}; return nil })
		},
	}
	for name, end := range ends {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			key := s.NewKey("herbarium", name, access.Writer, func(k *catalog.AccessKey) {
				if name == "expired" {
					k.Expires = &soon
				}
			})
			slow := &trickle{left: 8 << 20, step: 64 << 10, pause: 80 * time.Millisecond} // some 10 s
			r, err := http.NewRequest("PUT", s.WireURL+"/plates/"+name, slow)
			if err != nil {
				t.Fatal(err)
			}
			r.ContentLength = 8 << 20
			sign.Sign(r, key, "fenn", sign.Unsigned, time.Now())
			r.Header.Set("Expect", "100-continue")
			time.AfterFunc(400*time.Millisecond, func() {
				if err := end(key.ID); err != nil {
					t.Error(err)
				}
			})
			resp, err := http.DefaultTransport.RoundTrip(r)
			status := 0
			if err == nil {
				status = resp.StatusCode
				resp.Body.Close()
			}
			if status == 200 || slow.left == 0 {
				t.Errorf("the put went through (%d, %v)", status, err)
			}
			if st, _, _ := s.Do("HEAD", "/plates/"+name, nil, "", true); st != 404 {
				t.Errorf("something of it was kept: %d", st)
			}
			if st, _, b := s.As(key, "GET", "/plates/large", nil, ""); st != 403 {
				t.Errorf("afterwards: %d %.200s", st, b)
			}
		})
	}
	t.Run("while it receives", func(t *testing.T) {
		t.Parallel()
		key := s.NewKey("herbarium", "receives", access.Reader, nil)
		r, err := http.NewRequest("GET", s.WireURL+"/plates/large", nil)
		if err != nil {
			t.Fatal(err)
		}
		sign.Sign(r, key, "fenn", sign.Unsigned, time.Now())
		resp, err := http.DefaultTransport.RoundTrip(r)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		if err := ends["off"](key.ID); err != nil {
			t.Fatal(err)
		}
		n, buf := 0, make([]byte, 16<<10)
		for {
			m, err := resp.Body.Read(buf)
			if n += m; err == io.EOF || err != nil {
				break
			}
			time.Sleep(5 * time.Millisecond)
		}
		if n >= 16<<20 {
			t.Errorf("all of it came: %d bytes", n)
		}
	})
}

// trickle gives bytes slowly.
type trickle struct {
	left, step int
	pause      time.Duration
}

func (s *trickle) Read(p []byte) (int, error) {
	if s.left == 0 {
		return 0, io.EOF
	}
	time.Sleep(s.pause)
	n := min(len(p), s.step, s.left)
	clear(p[:n])
	s.left -= n
	return n, nil
}

// TestLinksAndRates tries links beyond their key, and a key's rate.
func TestLinksAndRates(t *testing.T) {
	s := harness.Service(t, nil)
	s.Do("PUT", "/plates", nil, "", true)
	s.Do("PUT", "/plates/k", nil, "x", true)
	key := s.NewKey("herbarium", "linker", access.Reader,
		func(k *catalog.AccessKey) { k.Limits = catalog.Limits{{Bucket: "plates", Prefix: "k"}} })
	link := func(method, path string) string {
		u, err := url.Parse(s.WireURL + path)
		if err != nil {
			t.Fatal(err)
		}
		return sign.Presign(method, u, key, "fenn", time.Hour, time.Now()).String()
	}
	ask := func(method, url string) int {
		t.Helper()
		r, err := http.NewRequest(method, url, nil)
		if err != nil {
			t.Fatal(err)
		}
		resp, err := http.DefaultTransport.RoundTrip(r)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	good := link("GET", "/plates/k")
	for what, c := range map[string][2]int{"what the key reads": {ask("GET", good), 200},
		"another key": {ask("GET", link("GET", "/plates/other")), 403},
		"a write":     {ask("PUT", link("PUT", "/plates/k")), 403}} {
		if c[0] != c[1] {
			t.Errorf("%s by a link: %d, want %d", what, c[0], c[1])
		}
	}
	if err := s.Store.Catalog.RemoveKey(t.Context(), key.ID, catalog.Author{At: time.Now(), Who: "the test"}); err != nil {
		t.Fatal(err)
	}
	s.Keys.Forget(key.ID)
	if st := ask("GET", good); st != 403 {
		t.Errorf("a link outlives its key: %d", st)
	}
	fast := s.NewKey("herbarium", "fast", access.Reader, func(k *catalog.AccessKey) { k.Rate = 5 })
	slowed := 0
	for range 30 {
		if st, _, b := s.As(fast, "GET", "/plates/k", nil, ""); st == 503 {
			slowed++
			if !strings.Contains(b, "SlowDown") {
				t.Fatal(b)
			}
		}
	}
	if slowed == 0 {
		t.Error("30 requests at once by a key that may make 5 a second all went through")
	}
}

// TestAnAccountOverItsQuota refuses whatever would add bytes to any of its
// buckets, and still reads and removes.
func TestAnAccountOverItsQuota(t *testing.T) {
	s := harness.Service(t, nil)
	key := s.NewKey("seed-lab", "mill-writer", access.Administrator, nil)
	quota, two := int64(100_000), 2
	a, err := s.Store.Catalog.Account(t.Context(), "seed-lab")
	if err != nil {
		t.Fatal(err)
	}
	a.Quota, a.MaxBuckets = &quota, &two
	if err := s.Store.Catalog.ChangeAccount(t.Context(), *a, catalog.Author{At: time.Now(), Who: "the test"}); err != nil {
		t.Fatal(err)
	}
	do := func(method, path string, header map[string]string, body string) (int, string) {
		t.Helper()
		st, _, b := s.As(key, method, path, header, body)
		return st, b
	}
	for path, status := range map[string]int{"/trials": 200, "/trays": 200} {
		if st, b := do("PUT", path, nil, ""); st != status {
			t.Fatalf("%s: %d %s", path, st, b)
		}
	}
	if st, b := do("PUT", "/third", nil, ""); st == 200 || !strings.Contains(b, "as many buckets as it may") {
		t.Errorf("a bucket too many: %d %s", st, b)
	}
	if st, b := do("PUT", "/trials/large", nil, strings.Repeat("x", 150_000)); st != 403 ||
		!strings.Contains(b, "QuotaExceeded") {
		t.Errorf("larger than the quota: %d %s", st, b)
	}
	if st, b := do("PUT", "/trials/most", nil, strings.Repeat("x", 95_000)); st != 200 {
		t.Fatalf("%d %s", st, b)
	}
	refused := func(what string, ask func() (int, string)) {
		t.Helper()
		harness.Until(t, what+" is refused", func() bool {
			st, b := ask()
			return st == 403 && strings.Contains(b, "QuotaExceeded")
		})
	}
	refused("a put into another of its buckets",
		func() (int, string) { return do("PUT", "/trays/more", nil, strings.Repeat("y", 9_000)) })
	refused("a copy", func() (int, string) {
		return do("PUT", "/trays/copy", map[string]string{"x-amz-copy-source": "/trials/most"}, "")
	})
	if st, b := do("GET", "/trials/most", nil, ""); st != 200 || len(b) != 95_000 {
		t.Errorf("reading while over: %d", st)
	}
	if st, b := do("DELETE", "/trials/most", nil, ""); st != 204 {
		t.Errorf("removing while over: %d %s", st, b)
	}
	harness.Until(t, "a put when there is room again", func() bool {
		st, _ := do("PUT", "/trays/more", nil, strings.Repeat("y", 9_000))
		return st == 200
	})
}
