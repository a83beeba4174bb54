package side_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"spindle/internal/bodies"
	"spindle/internal/bodies/bodiestest"
	"spindle/internal/core/fault"
	"spindle/internal/core/tier"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/side"
	"spindle/internal/standin"
	"spindle/internal/wire/client"
)

// distant is a space at a bucket of a stand-in.
type distant struct {
	*bodies.Elsewhere
	place  *side.Place
	is     *standin.Standin
	client *client.Client
}

// openDistant makes one; packed and sealed are the tier's.
func openDistant(t *testing.T, faults standin.Faults, packed, sealed bool) distant {
	t.Helper()
	return distantOf(t, harness.Service(t, reaching), faults, packed, sealed)
}

func reaching(cfg *service.Config) { cfg.Reach = []string{"loopback"} }

var annexes atomic.Int64

func distantOf(t *testing.T, r *harness.Running, faults standin.Faults, packed, sealed bool) distant {
	t.Helper()
	name := fmt.Sprintf("annex-%d", annexes.Add(1))
	is, c := harness.Standin(t, standin.Faults{})
	if err := c.CreateBucket(t.Context(), "attic"); err != nil {
		t.Fatal(err)
	}
	p := &side.Place{Pool: r.Remote, Endpoint: r.StandinEndpoint(name, is).ID, Name: name, Bucket: "attic",
		Prefix: "bodies/"}
	if err := bodies.PreparePlace(t.Context(), p, "a-marker"); err != nil {
		t.Fatal(err)
	}
	if err := is.Set(faults); err != nil {
		t.Fatal(err)
	}
	room, err := bodies.Open(t.TempDir(), 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { room.Close() })
	e := bodies.NewElsewhere(&tier.Tier{ID: 3, Name: "attic", Copies: 1, Packed: packed, Sealed: sealed,
		Volumes: []tier.Volume{{Place: &tier.Place{}, Marker: "a-marker"}}}, r.Keys, p, room)
	return distant{e, p, is, c}
}

func nameOf(id int64) string {
	name := fmt.Sprintf("%016x", id)
	return name[14:] + "/" + name + ".body"
}

// A bucket at an endpoint keeps bodies as a disk does, with all abilities of an endpoint,
// with as few as there may be, and where much fails.
func TestPlaceIsASpace(t *testing.T) {
	t.Parallel()
	r := harness.Service(t, reaching)
	for name, x := range map[string]struct {
		faults standin.Faults
		packed bool
	}{
		"able":    {standin.Faults{}, false},
		"packed":  {standin.Faults{}, true},
		"plain":   {standin.Faults{Lacks: []string{"checksums", "multipart", "conditions", "versioning"}}, false},
		"failing": {standin.Faults{Errors: 0.05, Cut: 0.05, Wrong: 0.05, Rot: 0.02, Throttle: 0.05}, true},
	} {
		t.Run(name, func(t *testing.T) {
			bodiestest.TestSpace(t, func(t *testing.T) bodies.Space {
				return distantOf(t, r, x.faults, x.packed, false)
			})
		})
	}
}

// Reading from a place that gives its bytes slowly ends when who reads leaves, and when the service stops.
func TestReadingElsewhereEnds(t *testing.T) {
	t.Parallel()
	for name, end := range map[string]func(d distant, leave func()){
		"who reads leaves":  func(_ distant, leave func()) { leave() },
		"the service stops": func(d distant, _ func()) { _ = d.Close() },
	} {
		t.Run(name, func(t *testing.T) {
			d := openDistant(t, standin.Faults{}, false, false)
			body := make([]byte, 8<<20)
			_, _ = rand.Read(body)
			w, err := d.Write(bytes.NewReader(body), int64(len(body)), false, nil, func(bodies.Written) error { return nil })
			if err != nil {
				t.Fatal(err)
			}
			w.Release()
			if err := d.is.Set(standin.Faults{Bandwidth: 64 << 10}); err != nil { // two minutes for all of it
				t.Fatal(err)
			}
			ctx, leave := context.WithCancel(t.Context())
			defer leave()
			read := make(chan error)
			go func() {
				of, err := d.Open(ctx, w.Ref, w.Size)
				if err == nil {
					defer of.Close()
					err = of.Send(io.Discard, 0, w.Size, nil)
				}
				read <- err
			}()
			time.Sleep(300 * time.Millisecond)
			end(d, leave)
			select {
			case err := <-read:
				if err == nil {
					t.Error("it was read to its end")
				}
			case <-time.After(20 * time.Second):
				t.Error("it is read still")
			}
		})
	}
}

// A large body goes in pieces while it arrives, and ranges of it are read.
func TestPiecesElsewhere(t *testing.T) {
	t.Parallel()
	for name, faults := range map[string]standin.Faults{"able": {}, "cut": {Cut: 0.2, Errors: 0.1},
		"whole": {Lacks: []string{"multipart"}}} {
		t.Run(name, func(t *testing.T) {
			d := openDistant(t, faults, false, true)
			body := make([]byte, 40<<20+123)
			_, _ = rand.Read(body)
			w, err := d.Write(bytes.NewReader(body), int64(len(body)), false, nil, func(bodies.Written) error { return nil })
			if err != nil {
				t.Fatal(err)
			}
			w.Release()
			for _, r := range [][2]int64{{0, w.Size}, {0, 1}, {w.Size - 1, 1}, {256<<10 - 1, 2}, {17<<20 + 5, 9 << 20}} {
				o, err := d.Open(t.Context(), w.Ref, w.Size)
				if err != nil {
					t.Fatal(err)
				}
				var got bytes.Buffer
				err = o.Send(&got, r[0], r[1], nil)
				o.Close()
				if err != nil || !bytes.Equal(got.Bytes(), body[r[0]:r[0]+r[1]]) {
					t.Errorf("%d bytes from %d: %d came, %v", r[1], r[0], got.Len(), err)
				}
			}
			if n := d.is.Counts()["StartUpload"]; (n > 0) != (name != "whole") {
				t.Errorf("%d uploads", n)
			}
		})
	}
}

// Of a body that is refused, cut off or of a process that died, nothing stays.
func TestUnfinishedElsewhere(t *testing.T) {
	t.Parallel()
	d := openDistant(t, standin.Faults{}, false, false)
	begun := func() (n int) {
		if err := d.client.Uploads(t.Context(), "attic", "", func(client.Begun) error { n++; return nil }); err != nil {
			t.Fatal(err)
		}
		return n
	}
	body := func() io.Reader { return io.LimitReader(rand.Reader, 20<<20) }
	refused := errors.New("refused")
	if _, err := d.Write(body(), -1, false, nil, func(bodies.Written) error { return refused }); err != refused {
		t.Fatal(err)
	}
	if n := begun(); n != 0 {
		t.Errorf("%d uploads stayed of a body that was refused", n)
	}
	// As if the process had died: the upload is there, and nobody holds it.
	w, err := d.Write(strings.NewReader("x"), 1, false, nil, func(bodies.Written) error { return nil })
	if err != nil {
		t.Fatal(err)
	}
	w.Release()
	files := map[int64]int64{}
	walk := func() {
		clear(files)
		if err := d.Walk(t.Context(), func(f bodies.File) error { files[f.ID] = f.Size; return nil }); err != nil {
			t.Fatal(err)
		}
	}
	walk()
	left := w.Ref.File + 256 // in the same folder
	key := strings.Replace("bodies/whole/ID", "ID", nameOf(left), 1)
	if _, err := d.client.StartUpload(t.Context(), "attic", key, client.Put{}); err != nil {
		t.Fatal(err)
	}
	walk()
	if _, found := files[left]; !found || len(files) != 2 {
		t.Fatalf("the walk gives %v", files)
	}
	for id := range files {
		if _, err := d.RemoveWhole(id); err != nil {
			t.Fatal(err)
		}
	}
	if walk(); len(files) != 0 || begun() != 0 {
		t.Errorf("%v and %d uploads stay", files, begun())
	}
}

// back ends all faults, and does what a check does that finds the endpoint healthy.
func (d *distant) back(t *testing.T) {
	t.Helper()
	if err := d.is.Set(standin.Faults{}); err != nil {
		t.Fatal(err)
	}
	conn, err := d.place.Pool.Get(t.Context(), d.place.Endpoint)
	if err != nil {
		t.Fatal(err)
	}
	conn.Circuit.Note(nil, time.Now())
	if err := d.Present(); err != nil {
		t.Fatal(err)
	}
}

// An endpoint that does not serve is away, and says for how long it need not be asked;
// what is there is no loss. Another volume in its place is not touched.
func TestPlaceAway(t *testing.T) {
	t.Parallel()
	d := openDistant(t, standin.Faults{}, false, false)
	accept := func(bodies.Written) error { return nil }
	w, err := d.Write(strings.NewReader("gone for now"), 12, false, nil, accept)
	if err != nil {
		t.Fatal(err)
	}
	w.Release()
	away := func(what string, faults standin.Faults) {
		t.Helper()
		if err := d.is.Set(faults); err != nil {
			t.Fatal(err)
		}
		_, oerr := d.Open(t.Context(), w.Ref, w.Size)
		_, werr := d.Write(strings.NewReader("y"), 1, false, nil, accept)
		for _, err := range []error{oerr, werr} {
			if !fault.HasCode(err, "volume-away") || strings.Contains(fault.From(err).Message, "annex") {
				t.Errorf("%s: %v", what, err)
			}
		}
		if n, err := d.RemoveWhole(w.Ref.File); n != 0 || err != nil {
			t.Errorf("%s: %d bytes removed, %v", what, n, err)
		}
		d.back(t)
	}
	away("a refused key", standin.Faults{Refuse: []string{"*"}})
	away("an outage", standin.Faults{Away: true})

	if err := d.is.Set(standin.Faults{Away: true}); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "the endpoint is asked again", func() bool {
		_, err := d.Open(t.Context(), w.Ref, w.Size)
		return fault.From(err).After > 0
	})
	if states := d.States(); len(states) != 1 || states[0].Away == nil ||
		!strings.Contains(states[0].Away.Error(), d.place.String()) {
		t.Errorf("the volume stands as %+v", states)
	}
	d.back(t)

	// The bucket was emptied, or is another's.
	remove := func(key string) {
		if err := d.client.Remove(t.Context(), "attic", key); err != nil {
			t.Fatal(err)
		}
	}
	remove("bodies/whole/" + nameOf(w.Ref.File))
	if _, err := d.Open(t.Context(), w.Ref, w.Size); fault.KindOf(err) != fault.Damaged {
		t.Errorf("a body that is gone where the volume is there: %v", err)
	}
	remove("bodies/volume.json")
	if _, err := d.Open(t.Context(), w.Ref, w.Size); !fault.HasCode(err, "volume-away") {
		t.Errorf("a body that is gone with the volume: %v", err)
	}
	if err := bodies.PreparePlace(t.Context(), d.place, "another"); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Write(strings.NewReader("y"), 1, false, nil, accept); !fault.HasCode(err, "volume-away") {
		t.Errorf("written to another volume: %v", err)
	}
}

// What is no place for bodies is refused.
func TestPlacesThatDoNotFit(t *testing.T) {
	t.Parallel()
	d := openDistant(t, standin.Faults{}, false, false)
	prepare := func(bucket, prefix string) error {
		p := *d.place
		p.Bucket, p.Prefix = bucket, prefix
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		return bodies.PreparePlace(ctx, &p, "m")
	}
	if err := prepare("attic", "bodies/"); !fault.HasCode(err, "volume-taken") {
		t.Errorf("a volume: %v", err)
	}
	if err := prepare("attic", ""); !fault.HasCode(err, "volume-not-empty") {
		t.Errorf("a bucket with content: %v", err)
	}
	if err := prepare("nowhere", ""); !fault.HasCode(err, "volume") {
		t.Errorf("a bucket that is not there: %v", err)
	}
	if err := d.client.CreateBucket(t.Context(), "keeps"); err != nil {
		t.Fatal(err)
	}
	if err := d.client.SetVersioning(t.Context(), "keeps", true); err != nil {
		t.Fatal(err)
	}
	if err := prepare("keeps", ""); !fault.HasCode(err, "volume-keeps") {
		t.Errorf("a bucket that keeps versions: %v", err)
	}
}
