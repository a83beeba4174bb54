package demo

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"mime"
	"path"
	"slices"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
)

// Fixed sample credentials. They open nothing but sample data.
const (
	OwnerKey    = "HERBARIUMOWNER"
	OwnerSecret = "linen-and-iron-gall-ink"
	Account     = "herbarium"
	Region      = "fenn"
)

// piece is an object of the sample data.
type piece struct {
	bucket, key string
	at          time.Time
	who         string
	metadata    map[string]string
	content     func() []byte
}

// Load makes the sample data in a store, with tiers beneath a directory. progress hears
// how far it is.
func Load(ctx context.Context, s *store.Store, seal Sealer, dir string, now time.Time,
	progress func(done, all int)) error {
	now = now.UTC()
	if err := s.Catalog.EnsurePartitions(ctx, now.AddDate(-3, -6, 0), now); err != nil {
		return err
	}
	began := now.AddDate(-3, -2, -12)
	if err := accounts(ctx, s, seal, began, now); err != nil {
		return err
	}
	if err := tiers(ctx, s, dir, began); err != nil {
		return err
	}
	if err := buckets(ctx, s, began); err != nil {
		return err
	}
	pieces := plan(now)
	slices.SortStableFunc(pieces, func(a, b piece) int { return a.at.Compare(b.at) })
	drawing, stop := context.WithCancel(ctx)
	defer stop()
	ahead(drawing, pieces)
	events := happenings(ctx, s, pieces, now)
	done := 0
	if err := inOrder(ctx, events, func() {
		if done++; done%100 == 0 || done == len(events) {
			progress(done, len(events))
		}
	}); err != nil {
		return err
	}
	if err := unfinished(ctx, s, now); err != nil {
		return err
	}
	if err := grants(ctx, s, now); err != nil {
		return err
	}
	if err := s.Fresh(ctx, time.Now()); err != nil {
		return err
	}
	if err := fillTrays(ctx, s, now); err != nil {
		return err
	}
	if err := rules(ctx, s, time.Time{}); err != nil {
		return err
	}
	return s.Fresh(ctx, time.Now())
}

// happenings gives all that is written, in order: each piece with its story, and what happened today.
func happenings(ctx context.Context, s *store.Store, pieces []piece, now time.Time) []event {
	stories := histories(pieces, now)
	events := make([]event, len(pieces))
	for i, p := range pieces {
		events[i] = event{p.at, func(wait func(time.Time) bool) error {
			fresh, err := putNew(ctx, s, p)
			if err != nil {
				return fmt.Errorf("%s/%s: %w", p.bucket, p.key, err)
			}
			tell := stories[p.bucket+"/"+p.key]
			if !fresh || tell == nil {
				return nil
			}
			st := &story{s: s, bucket: object.MustBucketName(p.bucket), key: object.MustKey(p.key), at: p.at,
				end: now.Add(-30 * time.Hour), wait: wait}
			if err := tell(ctx, st); err != nil {
				return fmt.Errorf("the story of %s/%s: %w", p.bucket, p.key, err)
			}
			return nil
		}}
	}
	events = append(events, event{now.Add(-6 * time.Hour), func(wait func(time.Time) bool) error {
		return today(ctx, s, now, wait)
	}})
	return events
}

// buckets makes the buckets of the house.
func buckets(ctx context.Context, s *store.Store, began time.Time) error {
	for i, name := range []string{"plates", "field-notes", "germination", "loans", "attic"} {
		by := catalog.Author{At: began.Add(time.Duration(i*37) * time.Minute), Who: OwnerKey, Source: "10.4.0.11"}
		b := catalog.Bucket{Name: object.MustBucketName(name), Account: Account, Region: Region,
			Settings: bucket.Settings{Tags: tagsOf[name], Sealing: name == "loans"}}
		if owner := owners[name]; owner != "" {
			b.Account = owner
		}
		if name == "plates" || name == "field-notes" || name == "loans" {
			b.Versioning = object.On
		}
		err := s.CreateBucket(ctx, b, by)
		if err != nil && !fault.HasCode(err, "bucket-exists") {
			return err
		}
	}
	return nil
}

// fillTrays gives the trays a quota of which they fill nine tenths.
func fillTrays(ctx context.Context, s *store.Store, now time.Time) error {
	b, err := s.Catalog.Bucket(ctx, object.MustBucketName("germination"))
	if err != nil {
		return err
	}
	quota := b.Usage.Bytes * 100 / 91 / 1024 * 1024
	by := catalog.Author{At: now, Who: OwnerKey, Source: "10.4.0.11"}
	return s.ChangeBucket(ctx, b.Name, 0, by, bucket.Quota(&quota))
}

var tagsOf = map[string]object.Tags{"plates": {"kind": "scans", "kept": "for good"}, "germination": {"kind": "trials"}}

// putNew puts a piece unless its key was there before, as after a load that was
// stopped in the middle, and says whether nothing has become of it yet.
func putNew(ctx context.Context, s *store.Store, p piece) (fresh bool, err error) {
	content := p.content()
	p.content = func() []byte { return content }
	a := catalog.Address{Bucket: object.MustBucketName(p.bucket), Key: object.MustKey(p.key)}
	h, err := s.History(ctx, a, 0, 2, false)
	if fault.HasCode(err, "key-missing") {
		return true, put(ctx, s, p)
	}
	if err != nil {
		return false, err
	}
	v := h[0].Versions
	return len(v) == 1 && v[0].Version.Revision == 1 && len(h[0].Went) == 0, nil
}

func put(ctx context.Context, s *store.Store, p piece) error {
	key, err := object.ParseKey(p.key)
	if err != nil {
		return err
	}
	meta, err := object.NewMetadata(p.metadata)
	if err != nil {
		return err
	}
	b := p.content()
	_, err = s.Put(ctx, store.Put{
		Address: catalog.Address{Bucket: object.MustBucketName(p.bucket), Key: key},
		Author:  catalog.Author{At: p.at, Who: p.who, Source: source(p.who)},
		Body:    bytes.NewReader(b), Size: int64(len(b)), Headers: object.Headers{ContentType: contentType(p.key)},
		Metadata: meta,
	})
	return err
}

func source(who string) string {
	return map[string]string{"scanner-2": "10.4.0.17", "field-kit": "10.4.2.40", "press-room": "10.4.0.23"}[who]
}

func contentType(key string) string {
	switch path.Ext(key) {
	case ".tif":
		return "image/tiff"
	case ".wav":
		return "audio/wav"
	case ".csv":
		return "text/csv; charset=utf-8"
	}
	return mime.TypeByExtension(path.Ext(key))
}

type taxon struct{ name, family string }

var (
	taxa = []taxon{{"Calluna vulgaris", "Ericaceae"}, {"Erica tetralix", "Ericaceae"}, {"Erica cinerea", "Ericaceae"},
		{"Vaccinium myrtillus", "Ericaceae"},
		{"Empetrum nigrum", "Ericaceae"}, {"Andromeda polifolia", "Ericaceae"}, {"Drosera rotundifolia", "Droseraceae"},
		{"Narthecium ossifragum", "Nartheciaceae"},
		{"Molinia caerulea", "Poaceae"}, {"Trichophorum cespitosum", "Cyperaceae"}, {"Eriophorum vaginatum", "Cyperaceae"},
		{"Carex panicea", "Cyperaceae"},
		{"Myrica gale", "Myricaceae"}, {"Betula nana", "Betulaceae"}, {"Pinguicula vulgaris", "Lentibulariaceae"},
		{"Menyanthes trifoliata", "Menyanthaceae"}}
	collectors = []string{"Ines Varga", "Ines Varga", "Jorun Halvard", "Petr Osk", "Mirela Dask"}
	habitats   = []string{"moorland", "heath", "carr", "shore", "fen"}
	places     = []string{"Hollow Fen", "Crake Moor", "Long Carr", "Saltmere", "Ashby Heath"}
	licences   = []string{"CC BY 4.0", "CC BY 4.0", "CC0 1.0"}
)

// plan draws the sample data.
func plan(now time.Time) []piece {
	p := &planning{r: rand.New(rand.NewPCG(4217, 1753)), now: now}
	p.scans()
	p.trips()
	p.trays()
	p.loans()
	p.attic()
	return p.all
}

// planning is what is planned, from chances that are the same each time.
type planning struct {
	r   *rand.Rand
	now time.Time
	all []piece
}

// ago gives a moment of some working day, between from and to days ago.
func (p *planning) ago(from, to int) time.Time {
	d := to + p.r.IntN(from-to+1)
	return p.now.AddDate(0, 0, -d).Truncate(24 * time.Hour).
		Add(time.Duration(7*60+p.r.IntN(11*60))*time.Minute + time.Duration(p.r.IntN(60))*time.Second)
}

func (p *planning) scans() {
	sheet := 4100
	for year := range 4 {
		for _, h := range habitats {
			n := 22 + p.r.IntN(26)
			for range n {
				sheet++
				t := taxa[p.r.IntN(len(taxa))]
				// Scanned in the order of the sheets, more of them lately.
				at := p.ago(max(3, 1100-(sheet-4100)*33/20), max(2, 1060-(sheet-4100)*33/20))
				name := fmt.Sprintf("%d/%s/FH-%06d", p.now.Year()-3+year, h, sheet)
				meta := map[string]string{"taxon": t.name, "family": t.family, "collector": collectors[p.r.IntN(len(collectors))],
					"collected-on": at.AddDate(0, 0, -20-p.r.IntN(300)).Format(time.DateOnly),
					"elevation-m":  fmt.Sprint(20 + p.r.IntN(640)), "licence": licences[p.r.IntN(3)], "scanner": "scanner-2",
					"sheet": fmt.Sprint(sheet)}
				seed := uint64(sheet)
				p.all = append(p.all, piece{"plates", name + "-recto.tif", at, "scanner-2", meta,
					func() []byte { return plateTIFF(seed, false) }})
				if sheet%4 == 0 {
					p.all = append(p.all, piece{"plates", name + "-verso.tif", at.Add(41 * time.Second), "scanner-2", meta,
						func() []byte { return plateTIFF(seed, true) }})
				}
				if sheet%9 == 0 {
					p.all = append(p.all, piece{"plates", fmt.Sprintf("%d/%s/details/FH-%06d-flower.png", p.now.Year()-3+year, h,
						sheet),
						at.Add(5 * time.Minute), "scanner-2", meta, func() []byte { return detailPNG(seed) }})
				}
				if sheet%13 == 0 {
					p.all = append(p.all, piece{"plates", name + "-label.txt", at.Add(2 * time.Minute), "press-room", nil,
						func() []byte {
							return fmt.Appendf(nil, "Fennmoor Herbarium\nSheet %d\n%s (%s)\nLeg. %s\n", seed, t.name, t.family,
								meta["collector"])
						}})
				}
			}
		}
	}
}

func (p *planning) trips() {
	for trip := range 46 {
		at := p.ago(1120-trip*24, 1110-trip*24)
		place := places[p.r.IntN(len(places))]
		who := collectors[p.r.IntN(len(collectors))]
		base := fmt.Sprintf("%d/%s-%s/", at.Year(), at.Format("01-02"), slug(place))
		meta := map[string]string{"collector": who, "place": place}
		for day := range 2 + p.r.IntN(3) {
			seed := uint64(trip*10 + day)
			p.all = append(p.all, piece{"field-notes", fmt.Sprintf("%snotes-%d.txt", base, day+1),
				at.Add(time.Duration(day) * 24 * time.Hour), "field-kit", meta, func() []byte { return notes(seed, place, who) }})
			if p.r.IntN(2) == 0 {
				p.all = append(p.all, piece{"field-notes", fmt.Sprintf("%ssound-%d.wav", base, day+1),
					at.Add(time.Duration(day)*24*time.Hour + time.Hour), "field-kit", meta, func() []byte { return soundWAV(seed) }})
			}
		}
	}
}

func (p *planning) trays() {
	for tray := range 12 {
		for i := range 210 {
			at := p.now.Truncate(time.Hour).Add(-time.Duration(i*i/7+i) * time.Hour).Add(time.Duration(tray*3) * time.Minute)
			if at.After(p.now) {
				continue
			}
			seed := uint64(tray*1000 + i)
			p.all = append(p.all, piece{"germination", fmt.Sprintf("tray-%02d/%s.csv", tray+1, at.Format("2006-01-02T15")), at,
				"field-kit", map[string]string{"tray": fmt.Sprint(tray + 1)}, func() []byte { return trayCSV(seed, at) }})
		}
	}
}

func (p *planning) loans() {
	for loan := range 58 {
		at := p.ago(1100-loan*18, 1090-loan*18)
		base := fmt.Sprintf("%d/FL-%04d/", at.Year(), 310+loan)
		seed := uint64(loan)
		p.all = append(p.all, piece{"loans", base + "agreement.txt", at, "press-room", map[string]string{"licence": "house"},
			func() []byte { return letter(seed, "Loan agreement") }},
			piece{"loans", base + "specimens.csv", at.Add(time.Hour), "press-room", nil,
				func() []byte { return specimens(seed) }})
		if loan%3 != 0 && at.AddDate(0, 0, 90).Before(p.now) {
			p.all = append(p.all, piece{"loans", base + "return note.txt", at.AddDate(0, 0, 90), "press-room", nil,
				func() []byte { return letter(seed+500, "Return note") }})
		}
	}
}

func (p *planning) attic() {
	for i := range 635 {
		at := p.ago(1140, 760)
		seed := uint64(i + 90_000)
		switch i % 5 {
		case 0:
			p.all = append(p.all, piece{"attic", fmt.Sprintf("old-scans/box-%02d/scan-%04d.png", i%17, i), at, "press-room", nil,
				func() []byte { return detailPNG(seed) }})
		case 1:
			p.all = append(p.all, piece{"attic", fmt.Sprintf("cards/%c/card-%04d.txt", 'a'+rune(i%20), i), at, "press-room", nil,
				func() []byte { return letter(seed, "Index card") }})
		default:
			p.all = append(p.all, piece{"attic", fmt.Sprintf("unsorted/%d/%x.dat", at.Year(), seed*2654435761%(1<<32)), at,
				"press-room", nil, func() []byte { return noise(seed, 9000+int(seed%21000)) }})
		}
	}
}

// today makes the changes of the last hours: an overwrite, removals, arrivals.
func today(ctx context.Context, s *store.Store, now time.Time, wait func(time.Time) bool) error {
	plates := object.MustBucketName("plates")
	page, _, err := s.List(ctx, plates, catalog.Listing{Max: 12, Prefix: fmt.Sprintf("%d/moorland/", now.Year()),
		Full: true})
	if err != nil {
		return err
	}
	for i, e := range page {
		at := now.Add(-time.Duration(300-i*20) * time.Minute)
		if now.Sub(e.Version.Created) < 24*time.Hour {
			continue // it was done before
		}
		if !wait(at) {
			return nil
		}
		if i%5 == 4 {
			if _, err := s.Remove(ctx, catalog.Address{Bucket: plates, Key: e.Version.Key}, nil,
				catalog.Author{At: at, Who: "press-room", Source: source("press-room")}); err != nil {
				return err
			}
			continue
		}
		seed := uint64(i + 70_000)
		if err := put(ctx, s, piece{"plates", e.Version.Key.String(), at, "scanner-2", e.Version.Metadata,
			func() []byte { return plateTIFF(seed, false) }}); err != nil {
			return err
		}
	}
	return nil
}

func slug(s string) string {
	b := []byte(s)
	for i, c := range b {
		switch {
		case 'A' <= c && c <= 'Z':
			b[i] = c + 32
		case c == ' ':
			b[i] = '-'
		}
	}
	return string(b)
}
