package server_test

import (
	"fmt"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"spindle/internal/harness"
	"spindle/internal/wire/client"
)

// Every conditional write, tried by twelve at once, has one winner; the others are told, and
// what they would have replaced stays.
func TestConditionalWritesHaveOneWinner(t *testing.T) {
	s := harness.Service(t, nil)
	c := s.Client()
	for _, b := range []string{"plates", "kept"} {
		if err := c.CreateBucket(t.Context(), b); err != nil {
			t.Fatal(err)
		}
	}
	if err := c.SetVersioning(t.Context(), "kept", true); err != nil {
		t.Fatal(err)
	}
	put := func(bucket, key, body string) string {
		i, err := c.Put(t.Context(), bucket, key, strings.NewReader(body), int64(len(body)), client.Put{})
		if err != nil {
			t.Fatal(err)
		}
		return i.ETag
	}
	for n := range 12 {
		put("plates", fmt.Sprint("from-", n), fmt.Sprint("body ", n))
	}
	for _, bucket := range []string{"plates", "kept"} {
		for name, try := range map[string]func(key, etag string, n int) int{
			"put": func(key, etag string, n int) int {
				st, _, _ := s.Do("PUT", "/"+bucket+"/"+key, map[string]string{"If-Match": etag}, fmt.Sprint("body ", n), true)
				return st
			},
			"copy": func(key, etag string, n int) int {
				st, _, _ := s.Do("PUT", "/"+bucket+"/"+key, map[string]string{"If-Match": etag,
					"x-amz-copy-source": fmt.Sprint("/plates/from-", n)}, "", true)
				return st
			},
			"delete": func(key, etag string, _ int) int {
				st, _, _ := s.Do("DELETE", "/"+bucket+"/"+key, map[string]string{"If-Match": etag}, "", true)
				return st
			},
			"put what is not there": func(key, _ string, n int) int {
				st, _, _ := s.Do("PUT", "/"+bucket+"/new-"+key, map[string]string{"If-None-Match": "*"}, fmt.Sprint(n), true)
				return st
			},
			"copy to what is not there": func(key, _ string, n int) int {
				st, _, _ := s.Do("PUT", "/"+bucket+"/new-"+key, map[string]string{"If-None-Match": "*",
					"x-amz-copy-source": fmt.Sprint("/plates/from-", n)}, "", true)
				return st
			},
		} {
			key := strings.ReplaceAll(name, " ", "-")
			etag := `"` + put(bucket, key, "as it was") + `"`
			var won atomic.Int32
			var wg sync.WaitGroup
			for n := range 12 {
				wg.Go(func() {
					switch st := try(key, etag, n); st {
					case http.StatusOK, http.StatusNoContent:
						won.Add(1)
					case http.StatusPreconditionFailed, http.StatusNotFound: // it was changed, or removed
					default:
						t.Errorf("%s in %s answered %d", name, bucket, st)
					}
				})
			}
			wg.Wait()
			if n := won.Load(); n != 1 {
				t.Errorf("%s in %s was won by %d", name, bucket, n)
			}
		}
		// * means that something is there.
		for what, headers := range map[string]map[string]string{"put": {"If-Match": "*"},
			"copy": {"If-Match": "*", "x-amz-copy-source": "/plates/from-1"}, "delete": {"If-Match": "*"}} {
			method := "PUT"
			if what == "delete" {
				method = "DELETE"
			}
			if st, _, b := s.Do(method, "/"+bucket+"/never", headers, "", true); st != http.StatusNotFound {
				t.Errorf("%s of nothing with *: %d %s", what, st, b)
			}
			put(bucket, "there", "x")
			if st, _, b := s.Do(method, "/"+bucket+"/there", headers, "", true); st != 200 && st != 204 {
				t.Errorf("%s of something with *: %d %s", what, st, b)
			}
		}
		etag := `"` + put(bucket, "stale", "one") + `"`
		put(bucket, "stale", "two")
		st, _, b := s.Do("PUT", "/"+bucket+"/stale", map[string]string{"If-Match": etag,
			"x-amz-copy-source": "/plates/from-1"}, "", true)
		want(t, "a stale copy", st, b, 412, "PreconditionFailed")
	}
}
