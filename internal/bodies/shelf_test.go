package bodies_test

import (
	"bytes"
	"context"
	"hash"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"spindle/internal/bodies"
	"spindle/internal/bodies/bodiestest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/seal"
	"spindle/internal/core/tier"
)

// shelf makes a tier of n new volumes.
func shelf(t *testing.T, n int, change func(*tier.Tier)) (*bodies.Shelf, []string) {
	t.Helper()
	x := &tier.Tier{ID: 4, Name: "shelf", Copies: 1}
	var dirs []string
	for i := range n {
		dir, marker := filepath.Join(t.TempDir(), string(rune('a'+i))), bodies.NewMarker()
		if err := bodies.Prepare(dir, marker); err != nil {
			t.Fatal(err)
		}
		x.Volumes = append(x.Volumes, tier.Volume{ID: int64(i), Dir: dir, Marker: marker})
		dirs = append(dirs, dir)
	}
	if change != nil {
		change(x)
	}
	key, err := seal.NewKey(make([]byte, 32))
	if err != nil {
		t.Fatal(err)
	}
	s := bodies.NewShelf(x, sealer{key}, func(bodies.Owed) error { return nil })
	t.Cleanup(func() { s.Close() })
	return s, dirs
}

// shelves are tiers of each form, by the number of their volumes.
var shelves = map[string]struct {
	volumes int
	change  func(*tier.Tier)
}{
	"one copy":    {3, nil},
	"two copies":  {3, func(x *tier.Tier) { x.Copies = 2 }},
	"compressed":  {3, func(x *tier.Tier) { x.Packed = true }},
	"all of that": {3, func(x *tier.Tier) { x.Packed, x.Copies = true, 3 }},
	"in pieces":   {3, func(x *tier.Tier) { x.Pieces = &tier.Pieces{Data: 2, Parity: 1} }},
	"few of many": {5, func(x *tier.Tier) { x.Packed, x.Pieces = true, &tier.Pieces{Data: 2, Parity: 1} }},
}

func TestShelvesAreSpaces(t *testing.T) {
	for name, x := range shelves {
		t.Run(name, func(t *testing.T) {
			bodiestest.TestSpace(t, func(t *testing.T) bodies.Space {
				s, _ := shelf(t, x.volumes, x.change)
				return s
			})
		})
	}
}

func TestShelvesOnFaultyDisks(t *testing.T) {
	for name, x := range shelves {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			bodiestest.TestFaults(t, func(t *testing.T, disk *bodiestest.FaultyDisk) bodies.Space {
				s, _ := shelf(t, x.volumes, x.change)
				s.On(func(string) bodies.Disk { return disk })
				return s
			})
		})
	}
}

func keep(t *testing.T, s bodies.Space, body []byte, sealed bool) bodies.Written {
	t.Helper()
	w, err := s.Write(bytes.NewReader(body), int64(len(body)), sealed, []hash.Hash{},
		func(bodies.Written) error { return nil })
	if err != nil {
		t.Fatal(err)
	}
	w.Release()
	return w
}

// files gives the bodies' files beneath a directory.
func files(t *testing.T, dir string) (list []string) {
	t.Helper()
	if err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(path, ".body") {
			list = append(list, path)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	return list
}

func whole(s *bodies.Shelf, w bodies.Written, from, n int64) ([]byte, error) {
	o, err := s.Open(context.Background(), w.Ref, w.Size)
	if err != nil {
		return nil, err
	}
	defer o.Close()
	var b bytes.Buffer
	err = o.Send(&b, from, n, nil)
	return b.Bytes(), err
}

// spoil changes a byte in the middle of a file.
func spoil(t *testing.T, path string) {
	t.Helper()
	b, err := os.ReadFile(path)
	if err == nil {
		b[len(b)/3] ^= 0x40
		err = os.WriteFile(path, b, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// TestAnotherCopyIsRead damages, removes and takes away copies: what is read is right as
// long as one is good, and copies are made anew from it.
func TestAnotherCopyIsRead(t *testing.T) {
	body := bytes.Repeat([]byte("pressed between sheets of blotting paper; "), 40_000)
	for _, sealed := range []bool{false, true} {
		s, dirs := shelf(t, 3, func(x *tier.Tier) { x.Copies, x.Packed, x.Sealed = 2, true, sealed })
		w := keep(t, s, body, false)
		var at []string // the copies
		for _, d := range dirs {
			at = append(at, files(t, d)...)
		}
		if len(at) != 2 || w.Ref.Sealed() != sealed {
			t.Fatalf("%d copies, %+v", len(at), w.Ref)
		}
		if st, err := os.Stat(at[0]); err != nil || st.Size() > w.Size/10 {
			t.Errorf("compressed: %v, %v", st.Size(), err)
		}
		for name, harm := range map[string]func(){
			"damaged": func() { spoil(t, at[0]) },
			"gone":    func() { os.Remove(at[0]) },
			"short":   func() { os.Truncate(at[0], 100) },
		} {
			harm()
			if got, err := whole(s, w, 1000, w.Size-2000); err != nil || !bytes.Equal(got, body[1000:w.Size-1000]) {
				t.Errorf("one %s: %d bytes, %v", name, len(got), err)
			}
			m, err := s.Mend(t.Context(), w.Ref, w.Size, w.CRC64, func(int) error { return nil })
			if err != nil || m.Copies != 1 {
				t.Errorf("mended when one was %s: %+v, %v", name, m, err)
			}
			at = nil
			for _, d := range dirs {
				at = append(at, files(t, d)...)
			}
			if len(at) != 2 {
				t.Fatalf("%d copies after mending", len(at))
			}
		}
		spoil(t, at[0])
		spoil(t, at[1])
		if _, err := whole(s, w, 0, w.Size); fault.KindOf(err) != fault.Damaged {
			t.Errorf("both damaged: %v", err)
		}
		if _, err := s.Mend(t.Context(), w.Ref, w.Size, w.CRC64,
			func(int) error { return nil }); fault.KindOf(err) != fault.Damaged {
			t.Errorf("mended without a good copy: %v", err)
		}
	}
}

// TestAVolumeThatIsAway takes a volume's disk away, leaves an empty directory, or
// another volume: nothing is written there, and nothing is called lost.
func TestAVolumeThatIsAway(t *testing.T) {
	s, dirs := shelf(t, 1, nil)
	small, large := keep(t, s, []byte("a label"), false), keep(t, s, make([]byte, 1<<20), false)
	away := dirs[0] + " unmounted"
	if err := os.Rename(dirs[0], away); err != nil {
		t.Fatal(err)
	}
	other, otherDirs := shelf(t, 1, nil)
	keep(t, other, make([]byte, 1<<20), false)
	for name, put := range map[string]func() error{
		"no directory":   func() error { return nil },
		"an empty one":   func() error { return os.Mkdir(dirs[0], 0o700) },
		"another volume": func() error { return os.Rename(otherDirs[0], dirs[0]) },
	} {
		if err := put(); err != nil {
			t.Fatal(err)
		}
		fresh := bodies.NewShelf(&tier.Tier{ID: 4, Copies: 1, Volumes: []tier.Volume{{Dir: dirs[0], Marker: "x"}}}, nil, nil)
		if _, err := fresh.Write(strings.NewReader("x"), 1, false, nil, nil); !fault.HasCode(err, "volume-away") {
			t.Errorf("%s: written: %v", name, err)
		}
		if _, err := s.Open(t.Context(), large.Ref, large.Size); !fault.HasCode(err, "volume-away") {
			t.Errorf("%s: read: %v", name, err)
		}
		if err := s.Check(t.Context(), large.Ref, large.Size, large.CRC64,
			func(int) error { return nil }); !fault.HasCode(err,
			"volume-away") {
			t.Errorf("%s: checked: %v", name, err)
		}
		if err := s.Walk(t.Context(), func(f bodies.File) error {
			t.Errorf("%s: the file %d", name,
				f.ID)
			return nil
		}); err != nil {
			t.Error(err)
		}
		if st := s.States(); st[0].Away == nil {
			t.Errorf("%s: %+v", name, st)
		}
		fresh.Close()
		if name == "another volume" {
			if len(files(t, dirs[0])) != 1 {
				t.Errorf("%s: something was written", name)
			}
			os.Rename(dirs[0], otherDirs[0])
			continue
		}
		if list, _ := os.ReadDir(dirs[0]); len(list) > 0 {
			t.Errorf("%s: something was written: %v", name, list)
		}
		os.Remove(dirs[0])
	}
	if err := os.Rename(away, dirs[0]); err != nil {
		t.Fatal(err)
	}
	if err := s.Check(t.Context(), large.Ref, large.Size, large.CRC64, func(int) error { return nil }); err != nil {
		t.Errorf("back again: %v", err)
	}
	buf := make([]byte, small.Size)
	if err := s.ReadSmall(small.Ref, buf, small.CRC64); err != nil || string(buf) != "a label" {
		t.Errorf("back again: %q, %v", buf, err)
	}
}

func TestVolumesAreMadeOfEmptyDirectories(t *testing.T) {
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "thesis.txt"), nil, 0o600)
	if err := bodies.Prepare(dir, "m"); !fault.HasCode(err, "volume-not-empty") {
		t.Errorf("not empty: %v", err)
	}
	_, dirs := shelf(t, 1, nil)
	if err := bodies.Prepare(dirs[0], "m"); !fault.HasCode(err, "volume-taken") {
		t.Errorf("taken: %v", err)
	}
	if err := bodies.Prepare("/proc/spindle", "m"); !fault.HasCode(err, "volume") {
		t.Errorf("where none can be: %v", err)
	}
	if r := (object.BodyRef{Offset: object.Framed}); r.Place() != object.Alone {
		t.Errorf("place of a framed body: %d", r.Place())
	}
}
