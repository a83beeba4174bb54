package bodies_test

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"testing"

	"spindle/internal/bodies"
	"spindle/internal/bodies/bodiestest"
	"spindle/internal/core/fault"
	"spindle/internal/core/seal"
	"spindle/internal/core/tier"
	"spindle/internal/harness"
)

// piece is what the model knows of a file of a body on a volume.
type piece struct {
	good bool
	sum  [32]byte
}

// placeModel is a volume: what is on it by body, whether it can be seen, and what its disk fails at.
type placeModel struct {
	dir, marker string
	files       map[int64]piece
	gone        bool
	fails       map[bodiestest.Op]bool
	disk        *bodiestest.FaultyDisk
	older       string // a copy of the directory as it was, and of what was on it
	was         map[int64]piece
}

func (p *placeModel) reads() bool { return !p.gone && !p.fails[bodiestest.Open] }

// tierModel is a tier of the plain kind: a body is there when enough good files of it are.
type tierModel struct {
	t       *testing.T
	r       *rand.Rand
	needs   int // files that give a body back
	keeps   int // files that it is to have
	pieces  *tier.Pieces
	places  []*placeModel
	shelf   *bodies.Shelf
	kept    map[int64]bodies.Written
	content map[int64][]byte
	owed    map[int64]bodies.Owed
	hurt    map[int64]bool // files of it were spoiled or lost, and nobody has looked since
	lost    int            // volumes that were taken out since all was whole
	n       int
}

// open opens the shelf anew, as a process does that takes over after a kill.
func (m *tierModel) open() {
	x := &tier.Tier{ID: 3, Copies: 1, Pieces: m.pieces}
	if m.pieces == nil {
		x.Copies = m.keeps
	}
	for i, p := range m.places {
		x.Volumes = append(x.Volumes, tier.Volume{ID: int64(i + 1), Dir: p.dir, Marker: p.marker})
	}
	key, err := seal.NewKey(make([]byte, 32))
	if err != nil {
		m.t.Fatal(err)
	}
	m.shelf = bodies.NewShelf(x, sealer{key}, func(o bodies.Owed) error { m.owed[o.File] = o; return nil })
	m.shelf.On(func(dir string) bodies.Disk {
		return m.places[slices.IndexFunc(m.places, func(p *placeModel) bool { return p.dir == dir })].disk
	})
}

// add makes a new volume.
func (m *tierModel) add() {
	m.n++
	p := &placeModel{dir: filepath.Join(m.t.TempDir(), fmt.Sprint("volume-", m.n)), marker: bodies.NewMarker(),
		files: map[int64]piece{}, fails: map[bodiestest.Op]bool{}, disk: &bodiestest.FaultyDisk{}}
	if err := bodies.Prepare(p.dir, p.marker); err != nil {
		m.t.Fatal(err)
	}
	p.disk.Plan(func(op bodiestest.Op, _ string) bodiestest.Fault {
		if p.fails[op] {
			return bodiestest.Fault{Err: syscall.EIO}
		}
		return bodiestest.Fault{}
	})
	m.places = append(m.places, p)
}

// at gives where a volume's directory is now.
func (p *placeModel) at() string {
	if p.gone {
		return p.dir + ".away"
	}
	return p.dir
}

func (p *placeModel) path(file int64) string {
	name := fmt.Sprintf("%016x", file)
	return filepath.Join(p.at(), "whole", name[14:], name+".body")
}

// look finds what was written: a file that is new, or another one, is good.
func (m *tierModel) look(file int64) {
	for _, p := range m.places {
		b, err := os.ReadFile(p.path(file))
		if err != nil {
			delete(p.files, file)
			continue
		}
		if was, ok := p.files[file]; !ok || was.sum != sha256.Sum256(b) {
			p.files[file] = piece{true, sha256.Sum256(b)}
		}
	}
}

// stands gives how many good files of a body can be read, and how many volumes cannot be looked at.
func (m *tierModel) stands(file int64) (good, unseen int) {
	seen := map[[32]byte]bool{}
	for _, p := range m.places {
		x := p.files[file]
		switch {
		case !p.reads():
			unseen++
		case x.good && (m.pieces == nil || !seen[x.sum]): // a piece counts once
			good++
			seen[x.sum] = true
		}
	}
	return good, unseen
}

// says compares what reading or checking a body said with what the model has.
func (m *tierModel) says(what string, file int64, err error) {
	m.t.Helper()
	good, unseen := m.stands(file)
	switch damaged := fault.KindOf(err) == fault.Damaged; {
	case good >= m.needs && err != nil:
		m.t.Errorf("%s: %d good files of %d that are needed: %v", what, good, m.needs, err)
	case good < m.needs && err == nil:
		m.t.Errorf("%s: %d good files of %d that are needed, and it is well", what, good, m.needs)
	case err != nil && damaged != (unseen == 0):
		m.t.Errorf("%s: %d volumes cannot be looked at, and it is said: %v", what, unseen, err)
	}
}

func (m *tierModel) write() {
	size := 1 + m.r.IntN([]int{500, 40_000, 300_000}[m.r.IntN(3)])
	body := random(size)
	w, err := m.shelf.Write(bytes.NewReader(body), -1, m.r.IntN(3) == 0, nil, func(bodies.Written) error { return nil })
	able := 0
	for _, p := range m.places {
		if !p.gone && len(p.fails) == 0 {
			able++
		}
	}
	if err != nil {
		if able == len(m.places) || m.pieces != nil && able >= m.keeps {
			m.t.Errorf("%d volumes take a body, and it is not written: %v", able, err)
		}
		return
	}
	w.Release()
	file := w.Ref.File
	m.kept[file], m.content[file] = w, body
	m.look(file)
	has := 0
	for _, p := range m.places {
		if p.files[file].good {
			has++
		}
	}
	o, owes := m.owed[file]
	if has < m.needs || owes != (has < m.keeps) || owes && (o.Has != has || len(o.Lacks) != len(m.places)-has) {
		m.t.Errorf("it is written in %d files, and owed is %v %+v", has, owes, o)
	}
}

func (m *tierModel) one() int64 {
	if len(m.kept) == 0 {
		m.write()
	}
	all := slices.Sorted(maps.Keys(m.kept))
	if len(all) == 0 {
		return 0
	}
	return all[m.r.IntN(len(all))]
}

func (m *tierModel) read(file int64) {
	w := m.kept[file]
	b, err := sent(m.shelf, w.Ref, w.Size, 0, w.Size)
	m.says("reading", file, err)
	if err == nil && !bytes.Equal(b, m.content[file]) {
		m.t.Error("what is read is not what was written")
	}
}

// mend makes a body whole as far as can be, and pays what is owed of it.
func (m *tierModel) mend(file int64) (missing bool) {
	w := m.kept[file]
	before, unseen := m.stands(file)
	got, err := m.shelf.Mend(m.t.Context(), w.Ref, w.Size, w.CRC64, free)
	m.says("mending", file, err)
	m.look(file)
	after, _ := m.stands(file)
	if after < before {
		m.t.Errorf("mending left %d good files of %d: %+v, %v", after, before, got, err)
	}
	if err != nil {
		return true
	}
	able := unseen == 0 && !slices.ContainsFunc(m.places, func(p *placeModel) bool { return len(p.fails) > 0 })
	if able && (got.Missing > 0 || got.Failed != nil || after < m.keeps) {
		m.t.Errorf("mended with all volumes there: %+v, %d of %d files", got, after, m.keeps)
	}
	if got.Failed != nil {
		m.owed[file] = got.Owed
	}
	if got.Missing == 0 && able {
		delete(m.owed, file)
		delete(m.hurt, file)
	}
	return got.Missing > 0
}

// enough reports whether volumes may be taken out: of each body enough is left for sure.
func (m *tierModel) enough(out []*placeModel) bool {
	if len(out)+m.lost > m.keeps-m.needs {
		return false
	}
	for _, o := range m.owed {
		has := o.Has
		for _, p := range out {
			if !slices.Contains(o.Lacks, p.dir) {
				has--
			}
		}
		if has-m.lost < m.needs {
			return false
		}
	}
	return true
}

// takeOut takes volumes out when that is allowed, and puts as many new ones in.
func (m *tierModel) takeOut() {
	var out []*placeModel
	for _, p := range m.places {
		if p.gone || len(p.fails) > 0 {
			out = append(out, p)
		}
	}
	if len(out) == 0 && m.r.IntN(3) == 0 {
		out = m.places[m.r.IntN(len(m.places)):][:1]
	}
	if len(out) == 0 || !m.enough(out) {
		return
	}
	out = slices.Clone(out)
	m.places = slices.DeleteFunc(slices.Clone(m.places), func(p *placeModel) bool { return slices.Contains(out, p) })
	for range out {
		m.add()
	}
	m.lost += len(out)
	m.open()
	for file := range m.kept {
		if good, _ := m.stands(file); good < m.needs && !m.hurt[file] {
			m.t.Errorf("a body had its files, and %d of %d that are needed are left", good, m.needs)
		}
	}
}

// repair mends all; once nothing is missing all is whole.
func (m *tierModel) repair() {
	missing := false
	for _, file := range slices.Sorted(maps.Keys(m.kept)) {
		missing = m.mend(file) || missing
	}
	if !missing {
		m.lost = 0
	}
}

// spoil does something to a file of a body, or to all of a volume.
func (m *tierModel) spoil() {
	p, file := m.places[m.r.IntN(len(m.places))], m.one()
	if _, there := p.files[file]; !there || p.gone {
		return
	}
	b, err := os.ReadFile(p.path(file))
	if err != nil {
		m.t.Fatal(err)
	}
	switch m.r.IntN(3) {
	case 0:
		err = os.Remove(p.path(file))
		delete(p.files, file)
	case 1:
		for i := range b {
			b[i] = byte(m.r.Uint32())
		}
		err = os.WriteFile(p.path(file), b, 0o600)
		p.files[file] = piece{false, sha256.Sum256(b)}
	case 2:
		b = b[:len(b)/3]
		err = os.WriteFile(p.path(file), b, 0o600)
		p.files[file] = piece{false, sha256.Sum256(b)}
	}
	if err != nil {
		m.t.Fatal(err)
	}
	m.hurt[file] = true
}

// older puts a volume back to how it was when it was copied last, and copies it now.
func (m *tierModel) older(p *placeModel) {
	if p.gone {
		return
	}
	if p.older != "" && m.r.IntN(2) == 0 {
		if err := os.RemoveAll(p.dir); err != nil {
			m.t.Fatal(err)
		}
		if err := os.CopyFS(p.dir, os.DirFS(p.older)); err != nil {
			m.t.Fatal(err)
		}
		for file := range m.kept {
			if p.files[file] != p.was[file] {
				m.hurt[file] = true
			}
		}
		p.files = maps.Clone(p.was)
		return
	}
	p.older, p.was = filepath.Join(m.t.TempDir(), "older"), maps.Clone(p.files)
	if err := os.CopyFS(p.older, os.DirFS(p.dir)); err != nil {
		m.t.Fatal(err)
	}
}

// away takes a volume away, or brings it back.
func (m *tierModel) away(p *placeModel) {
	from := p.at()
	p.gone = !p.gone
	if p.gone && m.r.IntN(2) == 0 {
		defer func() { // an empty directory where it was: its disk is not mounted
			if err := os.Mkdir(p.dir, 0o700); err != nil {
				m.t.Fatal(err)
			}
		}()
	}
	if !p.gone {
		if err := os.RemoveAll(p.dir); err != nil {
			m.t.Fatal(err)
		}
	}
	if err := os.Rename(from, p.at()); err != nil {
		m.t.Fatal(err)
	}
}

// step does something.
func (m *tierModel) step() {
	p := m.places[m.r.IntN(len(m.places))]
	switch n := m.r.IntN(100); {
	case n < 30:
		m.write()
	case n < 55:
		if file := m.one(); file != 0 {
			m.read(file)
		}
	case n < 68:
		if file := m.one(); file != 0 {
			m.mend(file)
		}
	case n < 72:
		m.repair()
	case n < 78:
		m.away(p)
	case n < 83:
		if len(p.fails) > 0 {
			clear(p.fails)
			return
		}
		for _, op := range [][]bodiestest.Op{{bodiestest.Create, bodiestest.Write, bodiestest.Sync, bodiestest.Remove},
			{bodiestest.Sync}, {bodiestest.Write}, {bodiestest.Open}}[m.r.IntN(4)] {
			p.fails[op] = true
		}
	case n < 87:
		if len(m.kept) > 0 {
			m.spoil()
		}
	case n < 90:
		m.older(p)
	case n < 94:
		m.takeOut()
	case n < 97: // a kill leaves what was being made
		if !p.gone && len(m.kept) > 0 {
			if err := os.WriteFile(p.path(m.one())+".mending", []byte("half"), 0o600); err != nil {
				m.t.Fatal(err)
			}
		}
		m.open()
	default:
		if file := m.one(); file != 0 {
			_, _ = m.shelf.RemoveWhole(file) // which the collector does again where it fails
			m.forget(file)
		}
	}
}

// forget has a body not be there, wherever a file of it stays.
func (m *tierModel) forget(file int64) {
	delete(m.owed, file)
	delete(m.kept, file)
	delete(m.content, file)
	for _, p := range m.places {
		delete(p.files, file)
	}
}

// TestTiersAgainstAModel loses, spoils and takes out volumes of a tier at random, between puts, reads and repairs: a
// body reads as long as enough of it is there, nothing sound is called damaged, and nothing damaged is served; when all
// volumes are there again everything that was enough is whole.
func TestTiersAgainstAModel(t *testing.T) {
	for _, seed := range harness.Seeds(t, 2) {
		for name, kind := range map[string]tierModel{
			"2+1 on 3":      {pieces: &tier.Pieces{Data: 2, Parity: 1}, needs: 2, keeps: 3, n: 3},
			"4+2 on 7":      {pieces: &tier.Pieces{Data: 4, Parity: 2}, needs: 4, keeps: 6, n: 7},
			"2+2 on 4":      {pieces: &tier.Pieces{Data: 2, Parity: 2}, needs: 2, keeps: 4, n: 4},
			"2 copies on 3": {needs: 1, keeps: 2, n: 3},
			"3 copies on 3": {needs: 1, keeps: 3, n: 3},
		} {
			t.Run(fmt.Sprintf("%s, seed %d", name, seed), func(t *testing.T) {
				t.Parallel()
				m := kind
				m.t, m.r = t, rand.New(rand.NewPCG(seed, 31))
				m.kept, m.content = map[int64]bodies.Written{}, map[int64][]byte{}
				m.owed, m.hurt = map[int64]bodies.Owed{}, map[int64]bool{}
				for range kind.n {
					m.add()
				}
				m.open()
				m.live(120)
			})
		}
	}
}

// live does some steps, has all volumes be well again, and repairs.
func (m *tierModel) live(steps int) {
	for i := 0; i < steps && !m.t.Failed(); i++ {
		m.step()
	}
	for _, p := range m.places {
		clear(p.fails)
		if p.gone {
			m.away(p)
		}
	}
	if !m.t.Failed() {
		m.repair()
	}
	for file := range m.kept {
		m.read(file)
	}
}
