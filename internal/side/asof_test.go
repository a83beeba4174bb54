package side_test

import (
	"io"
	"strings"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/side"
	"spindle/internal/side/sidetest"
	"spindle/internal/standin"
)

// A bucket here and one at an endpoint are read as they were at a moment, removed and
// replaced objects too, and are not written.
func TestAsOf(t *testing.T) {
	r := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	plates := object.MustBucketName("plates")
	by := catalog.Author{At: time.Now(), Who: harness.Key, Source: "127.0.0.1"}
	if err := r.Store.CreateBucket(t.Context(), catalog.Bucket{Name: plates, Account: "herbarium"}, by); err != nil {
		t.Fatal(err)
	}
	if err := r.Store.ChangeBucket(t.Context(), plates, 0, by, bucket.Versioning(object.On)); err != nil {
		t.Fatal(err)
	}
	is, _ := harness.Standin(t, standin.Faults{}, "plates")
	conn, err := r.Remote.Get(t.Context(), r.StandinEndpoint("annex", is).ID)
	if err != nil {
		t.Fatal(err)
	}
	here := &side.Here{Store: r.Store, Bucket: plates, By: catalog.Author{Who: harness.Key}}
	there := &side.There{Conn: conn, Bucket: "plates"}
	for name, x := range map[string]struct {
		now  side.Side
		then func(time.Time) side.Side
	}{"here": {here, func(at time.Time) side.Side { return &side.HereAsOf{Here: here, At: at} }},
		"there": {there, func(at time.Time) side.Side { return &side.ThereAsOf{There: there, At: at} }}} {
		t.Run(name, func(t *testing.T) {
			write := func(key, content string) {
				crc := digest.CRC64([]byte(content))
				if _, err := x.now.Write(t.Context(), key, sidetest.Bytes(content), side.Write{Facts: side.Facts{
					Size: int64(len(content)), CRC64: &crc}}); err != nil {
					t.Fatal(err)
				}
			}
			write("a", "first")
			write("a/b", "beside")
			write("gone", "it was here")
			time.Sleep(1100 * time.Millisecond) // an endpoint tells of whole seconds
			then := x.then(time.Now())
			time.Sleep(1100 * time.Millisecond)
			write("a", "second, and longer")
			write("new", "later")
			if err := x.now.Remove(t.Context(), "gone"); err != nil {
				t.Fatal(err)
			}
			var got []string
			for f, err := range side.All(t.Context(), then, "") {
				if err != nil {
					t.Fatal(err)
				}
				full, err := then.Stat(t.Context(), f.Key)
				if err != nil || full.ETag != f.ETag || full.Size != f.Size {
					t.Errorf("%q is listed as %+v and is %+v, %v", f.Key, f, full, err)
				}
				body, err := then.Read(t.Context(), f.Key, f.ETag, 0, f.Size)
				if err != nil {
					t.Fatal(err)
				}
				b, err := io.ReadAll(body)
				body.Close()
				if err != nil {
					t.Fatal(err)
				}
				got = append(got, f.Key+"="+string(b))
			}
			if s := strings.Join(got, " "); s != "a=first a/b=beside gone=it was here" {
				t.Errorf("then there was %s", s)
			}
			if list, err := then.List(t.Context(), "a/", "", 10); err != nil || len(list) != 1 {
				t.Errorf("beneath a prefix: %v, %v", list, err)
			}
			if _, err := then.Stat(t.Context(), "new"); fault.KindOf(err) != fault.NotFound || err == nil {
				t.Errorf("what came later: %v", err)
			}
			if err := then.Remove(t.Context(), "a"); !fault.HasCode(err, "as-of") {
				t.Errorf("the past is changed: %v", err)
			}
		})
	}
}
