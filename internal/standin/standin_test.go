package standin_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/standin"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

const key, secret = "MILLWRITER", "sieve-and-sack"

func start(t *testing.T, s standin.Settings) (*standin.Standin, *client.Client) {
	t.Helper()
	s.Keys = map[string]string{key: secret}
	is, err := standin.Start(s)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { is.Stop() })
	c, err := client.New(is.URL, "lowland", sign.Credential{ID: key, Secret: secret})
	if err != nil {
		t.Fatal(err)
	}
	if err := c.CreateBucket(t.Context(), "mill"); err != nil && !fault.HasCode(err, "bucket-exists") {
		t.Fatal(err)
	}
	return is, c
}

func get(c *client.Client, key, version string) (string, error) {
	o, err := c.Get(context.Background(), "mill", key, version, 0, "")
	if err != nil {
		return "", err
	}
	defer o.Body.Close()
	b, err := io.ReadAll(o.Body)
	return string(b), err
}

func put(t *testing.T, c *client.Client, key, body string, p client.Put) client.Info {
	t.Helper()
	i, err := c.Put(t.Context(), "mill", key, strings.NewReader(body), int64(len(body)), p)
	if err != nil {
		t.Fatalf("put %q: %v", key, err)
	}
	return i
}

// Our client, which knows nothing of it, finds all that it needs, in memory and in a
// folder, where all is there again after a start.
func TestWhatAClientNeeds(t *testing.T) {
	for _, where := range []string{"", t.TempDir()} {
		t.Run(map[bool]string{true: "memory", false: "folder"}[where == ""], func(t *testing.T) {
			is, c := start(t, standin.Settings{Region: "lowland", Dir: where})
			odd := "a b+c/ü&%41\x7f~"
			meta := object.Metadata{"taxon": "Drosera"}
			put(t, c, odd, "one", client.Put{ContentType: "text/plain", Metadata: meta, Tags: object.Tags{"kind": "note"}})
			i, err := c.Head(t.Context(), "mill", odd)
			if err != nil || i.Size != 3 || i.ContentType != "text/plain" || i.Metadata["taxon"] != "Drosera" {
				t.Fatalf("head: %+v, %v", i, err)
			}
			if tags, err := c.Tags(t.Context(), "mill", odd); err != nil || tags["kind"] != "note" {
				t.Errorf("tags: %v, %v", tags, err)
			}
			p, err := c.List(t.Context(), "mill", "", "", "", 10)
			if err != nil || len(p.Objects) != 1 || p.Objects[0].Key != odd {
				t.Errorf("list: %+v, %v", p, err)
			}
			if err := c.SetVersioning(t.Context(), "mill", true); err != nil {
				t.Fatal(err)
			}
			put(t, c, odd, "two", client.Put{})
			if err := c.Remove(t.Context(), "mill", odd); err != nil {
				t.Fatal(err)
			}
			if _, err := get(c, odd, ""); !fault.HasCode(err, "key-missing") {
				t.Errorf("removed: %v", err)
			}
			if where != "" {
				if err := is.Stop(); err != nil {
					t.Fatal(err)
				}
				_, c = start(t, standin.Settings{Region: "lowland", Dir: where})
			}
			vs, err := c.ListVersions(t.Context(), "mill", "", client.VersionPlace{}, 10)
			if err != nil || len(vs.Versions) != 3 {
				t.Fatalf("versions: %+v, %v", vs, err)
			}
			if s, err := get(c, odd, "null"); err != nil || s != "one" {
				t.Errorf("the version before versioning: %q, %v", s, err)
			}
			_, err = c.Put(t.Context(), "mill", "new", strings.NewReader("x"), 1, client.Put{IfETag: "none"})
			if fault.KindOf(err) != fault.Precondition {
				t.Errorf("a condition that does not hold: %v", err)
			}
		})
	}
}

// Listings page and fold like a plain loop over the sorted keys.
func TestListings(t *testing.T) {
	_, c := start(t, standin.Settings{})
	r := rand.New(rand.NewPCG(7, 7))
	var keys []string
	for range 200 {
		k := fmt.Sprintf("%c/%c%d", 'a'+r.IntN(4), 'x'+r.IntN(3), r.IntN(40))
		if r.IntN(3) == 0 {
			k += "/deep"
		}
		keys = append(keys, k)
		put(t, c, k, "x", client.Put{})
	}
	slices.Sort(keys)
	keys = slices.Compact(keys)
	for _, prefix := range []string{"", "a/", "b/y"} {
		for _, most := range []int{1, 3, 100} {
			for _, delimiter := range []string{"", "/"} {
				var want, got []string
				for _, k := range keys {
					if !strings.HasPrefix(k, prefix) {
						continue
					}
					if i := strings.Index(k[len(prefix):], "/"); delimiter != "" && i >= 0 {
						k = k[:len(prefix)+i+1]
					}
					if len(want) == 0 || want[len(want)-1] != k {
						want = append(want, k)
					}
				}
				for next := ""; ; {
					p, err := c.List(t.Context(), "mill", prefix, delimiter, next, most)
					if err != nil {
						t.Fatal(err)
					}
					page := slices.Clone(p.Prefixes)
					for _, o := range p.Objects {
						page = append(page, o.Key)
					}
					slices.Sort(page)
					got = append(got, page...)
					if next = p.Next; next == "" {
						break
					}
				}
				if !slices.Equal(got, want) {
					t.Errorf("prefix %q, delimiter %q, pages of %d:\ngot  %v\nwant %v", prefix, delimiter, most, got, want)
				}
			}
		}
	}
}

// Parts make an object, in any order of sending; a wrong list of them does not.
func TestParts(t *testing.T) {
	_, c := start(t, standin.Settings{})
	id, err := c.StartUpload(t.Context(), "mill", "big", client.Put{Metadata: object.Metadata{"sheet": "7"}})
	if err != nil {
		t.Fatal(err)
	}
	first := bytes.Repeat([]byte("a"), 5<<20)
	var parts []client.Part
	for n, b := range [][]byte{first, []byte("end")} {
		p, err := c.PutPart(t.Context(), "mill", "big", id, n+1, bytes.NewReader(b), int64(len(b)))
		if err != nil {
			t.Fatal(err)
		}
		parts = append(parts, p)
	}
	if there, err := c.Parts(t.Context(), "mill", "big", id); err != nil || len(there) != 2 ||
		there[0].ETag != parts[0].ETag {
		t.Errorf("parts: %+v, %v", there, err)
	}
	if _, err := c.CompleteUpload(t.Context(), "mill", "big", id, []client.Part{parts[1], parts[0]}, -1, nil,
		client.Put{}); !fault.HasCode(err, "part-order") {
		t.Errorf("parts in another order: %v", err)
	}
	if _, err := c.CompleteUpload(t.Context(), "mill", "big", id, parts, -1, nil, client.Put{}); err != nil {
		t.Fatal(err)
	}
	if s, err := get(c, "big", ""); err != nil || s != string(first)+"end" {
		t.Errorf("got %d bytes, %v", len(s), err)
	}
}

// Each fault shows at the client as what it is.
func TestFaults(t *testing.T) {
	is, c := start(t, standin.Settings{Seed: 3})
	put(t, c, "there", "content", client.Put{})
	body := func() error {
		_, err := c.Put(t.Context(), "mill", "new", strings.NewReader("body"), 4, client.Put{})
		return err
	}
	read := func() error { _, err := get(c, "there", ""); return err }
	tags := func() error { return c.SetTags(t.Context(), "mill", "there", object.Tags{"a": "b"}) }
	for _, x := range []struct {
		name   string
		faults standin.Faults
		do     func() error
		code   string
	}{
		{"errors", standin.Faults{Errors: 1}, read, "wire-error"},
		{"away", standin.Faults{Away: true}, read, "unreachable"},
		{"throttle", standin.Faults{Throttle: 1, RetryAfter: 7}, read, "busy"},
		{"refused", standin.Faults{Refuse: []string{key}}, read, "key-unknown"},
		{"read only", standin.Faults{ReadOnly: true}, body, "refused"},
		{"clock", standin.Faults{Clock: 3600}, read, "clock-skew"},
		{"lacks tags", standin.Faults{Lacks: []string{"tags"}}, tags, "not-implemented"},
		{"wrong bytes", standin.Faults{Wrong: 1}, body, "digest-mismatch"},
		{"rot", standin.Faults{Rot: 1}, read, "digest-mismatch"},
		{"large", standin.Faults{MaxObject: 3}, body, "object-too-large"},
		{"long", standin.Faults{MaxKey: 2}, body, "key-too-long"},
	} {
		if err := is.Set(x.faults); err != nil {
			t.Fatal(err)
		}
		err := x.do()
		if !fault.HasCode(err, x.code) {
			t.Errorf("%s: %v; the code wanted is %s", x.name, err, x.code)
		}
		if after := fault.From(err).After; x.faults.RetryAfter > 0 && after != 7*time.Second {
			t.Errorf("%s: to be tried after %s", x.name, after)
		}
	}
	if err := is.Set(standin.Faults{Cut: 1}); err != nil {
		t.Fatal(err)
	}
	if read() == nil || body() == nil {
		t.Error("bodies that are cut off went through")
	}
	if err := is.Set(standin.Faults{}); err != nil {
		t.Fatal(err)
	}
	if err := read(); err != nil {
		t.Errorf("with nothing wrong: %v", err)
	}
	if is.Set(standin.Faults{Errors: 2}) == nil {
		t.Error("a share of 2 was taken")
	}
}
