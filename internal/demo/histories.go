package demo

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/object"
	"spindle/internal/store"
)

// Owner is the name the owner's key goes by in the sample's stories.
const owner = OwnerKey

// story tells what became of an object after it was put.
type story struct {
	s      *store.Store
	bucket object.BucketName
	key    object.Key
	at     time.Time
	end    time.Time
	wait   func(time.Time) bool // until a moment; false when there is none any more
}

func (t *story) address() catalog.Address { return catalog.Address{Bucket: t.bucket, Key: t.key} }

// later moves the story on; it reports false when that would be too late.
func (t *story) later(d time.Duration) bool {
	t.at = t.at.Add(d)
	return t.at.Before(t.end) && t.wait(t.at)
}

func (t *story) by(who string) catalog.Author {
	return catalog.Author{At: t.at, Who: who, Source: source(who)}
}

func (t *story) write(ctx context.Context, who string, content []byte) error {
	v, err := t.s.Find(ctx, t.address())
	if err != nil {
		return err
	}
	return put(ctx, t.s, piece{t.bucket.String(), t.key.String(), t.at, who, v.Metadata,
		func() []byte { return content }})
}

func (t *story) annotate(ctx context.Context, who string, set map[string]string, tags map[string]string) error {
	_, err := t.s.Annotate(ctx, store.Annotation{Address: t.address(), Author: t.by(who), Metadata: object.Edit{Set: set},
		Tags: object.Edit{Set: tags}})
	return err
}

func (t *story) rename(ctx context.Context, who, to string) error {
	from := t.address()
	t.key = object.MustKey(to)
	_, err := t.s.Copy(ctx, store.Copy{From: from, To: t.address(), Author: t.by(who), Move: true})
	return err
}

func (t *story) remove(ctx context.Context, who string) error {
	_, err := t.s.Remove(ctx, t.address(), nil, t.by(who))
	return err
}

// Showcase is the sheet whose history has something of everything.
const showcase = "FH-004217-recto.tif"

// teller tells a story.
type teller func(context.Context, *story) error

// histories gives what becomes of some pieces after they were put, by their addresses:
// versions, corrections, renames, deletions and restores.
func histories(pieces []piece, now time.Time) map[string]teller {
	stories := map[string]teller{}
	seen := map[string]int{}
	pieces = slices.Clone(pieces)
	slices.SortFunc(pieces, func(a, b piece) int { return strings.Compare(a.bucket+"/"+a.key, b.bucket+"/"+b.key) })
	lost := "" // the trip that was deleted by mistake
	for _, p := range pieces {
		if p.bucket == "field-notes" && lost == "" && strings.HasPrefix(p.key, fmt.Sprint(now.Year())) {
			lost = p.key[:strings.LastIndex(p.key, "/")+1]
		}
	}
	for _, p := range pieces {
		name := p.key[strings.LastIndex(p.key, "/")+1:]
		kind := p.bucket + strings.TrimLeft(name, "FH-0123456789")
		n := seen[kind]
		seen[kind]++
		at := p.bucket + "/" + p.key
		switch {
		case name == showcase:
			stories[at] = showcaseStory
		case p.bucket == "field-notes" && strings.HasPrefix(p.key, lost):
			stories[at] = deletedAt(now.Add(-9 * 24 * time.Hour).Add(time.Duration(n) * time.Second))
		case p.bucket == "loans" && name == "specimens.csv" && n%2 == 0:
			stories[at] = countedAgain(n)
		case p.bucket == "loans" && name == "agreement.txt" && n%5 == 1:
			stories[at] = amended(n)
		case p.bucket == "plates" && strings.HasSuffix(name, "-recto.tif") && n%6 == 2:
			stories[at] = determinedAgain(n)
		case p.bucket == "plates" && strings.HasSuffix(name, "-recto.tif") && n%6 == 5:
			stories[at] = scannedAgain(n)
		case p.bucket == "field-notes" && strings.HasSuffix(name, ".txt") && n%3 == 0:
			stories[at] = writtenOut(n)
		}
	}
	return stories
}

// seedOf is what the n-th story of a kind draws its contents from.
func seedOf(n int) uint64 { return uint64(n + 40_000) }

func deletedAt(at time.Time) teller {
	return func(ctx context.Context, t *story) error {
		if !t.later(at.Sub(t.at)) {
			return nil
		}
		return t.remove(ctx, "press-room")
	}
}

func countedAgain(n int) teller {
	return func(ctx context.Context, t *story) error {
		for i := range 1 + n%4 {
			if !t.later(time.Duration(3+5*i) * 26 * time.Hour) {
				return nil
			}
			if err := t.write(ctx, "press-room", specimens(seedOf(n)*10+uint64(i))); err != nil {
				return err
			}
		}
		if n%8 != 0 || !t.later(40*24*time.Hour) {
			return nil
		}
		return t.annotate(ctx, owner, map[string]string{"counted-by": collectors[n%len(collectors)]},
			map[string]string{"state": "returned"})
	}
}

func amended(n int) teller {
	return func(ctx context.Context, t *story) error {
		if !t.later(12 * 24 * time.Hour) {
			return nil
		}
		if err := t.write(ctx, "press-room", letter(seedOf(n), "Loan agreement, amended")); err != nil {
			return err
		}
		if !t.later(50 * time.Hour) {
			return nil
		}
		return t.rename(ctx, owner, strings.TrimSuffix(t.key.String(), "agreement.txt")+"agreement signed.txt")
	}
}

func determinedAgain(n int) teller {
	return func(ctx context.Context, t *story) error {
		for i := range 1 + n%3 {
			if !t.later(time.Duration(20+30*i) * 25 * time.Hour) {
				return nil
			}
			if err := t.annotate(ctx, owner, map[string]string{"taxon": taxa[(n+i)%len(taxa)].name,
				"family": taxa[(n+i)%len(taxa)].family, "determined-by": collectors[(n+i)%len(collectors)]}, nil); err != nil {
				return err
			}
		}
		return nil
	}
}

func scannedAgain(n int) teller {
	return func(ctx context.Context, t *story) error {
		for i := range 1 + n%2 {
			if !t.later(time.Duration(14+60*i) * 24 * time.Hour) {
				return nil
			}
			if err := t.write(ctx, "scanner-2", plateTIFF(seedOf(n)+uint64(i)*7, false)); err != nil {
				return err
			}
		}
		return nil
	}
}

func writtenOut(n int) teller {
	return func(ctx context.Context, t *story) error {
		for i := range 1 + n%3 {
			if !t.later(time.Duration(20+70*i) * time.Hour) {
				return nil
			}
			content := notes(seedOf(n)+uint64(i), places[n%len(places)], collectors[n%len(collectors)])
			if err := t.write(ctx, "field-kit", content); err != nil {
				return err
			}
		}
		return nil
	}
}

// showcaseStory: corrected, scanned again, renamed and renamed back, deleted by
// mistake, restored.
func showcaseStory(ctx context.Context, t *story) error {
	key := t.key.String()
	folder := key[:strings.LastIndex(key, "/")+1]
	day := 24 * time.Hour
	for _, step := range []struct {
		after time.Duration
		do    func() error
	}{
		{9*day + 3*time.Hour, func() error {
			return t.annotate(ctx, owner, map[string]string{"taxon": "Erica tetralix", "determined-by": "Ines Varga"}, nil)
		}},
		{34 * day, func() error { return t.write(ctx, "scanner-2", plateTIFF(421701, false)) }},
		{2 * time.Hour, func() error {
			return t.annotate(ctx, owner, map[string]string{"scanner": "scanner-2, lamp renewed"},
				map[string]string{"quality": "checked"})
		}},
		{61 * day, func() error { return t.rename(ctx, "press-room", folder+"FH-004217-recto (press).tif") }},
		{5 * day, func() error { return t.rename(ctx, owner, key) }},
		{48 * day, func() error { return t.write(ctx, "scanner-2", plateTIFF(421702, false)) }},
		{90 * day, func() error { return t.remove(ctx, "press-room") }},
		{26 * time.Hour, func() error {
			h, err := t.s.History(ctx, t.address(), 0, 2, false)
			if err != nil {
				return err
			}
			_, err = t.s.Restore(ctx, t.address(), h[0].Versions[1].Version.ID(), time.Time{}, t.by(owner))
			return err
		}},
		{30 * day, func() error {
			return t.annotate(ctx, owner, map[string]string{"note": "Blüte und Frucht, Herkunft: Ödmark"}, nil)
		}},
	} {
		if !t.later(step.after) {
			return nil
		}
		if err := step.do(); err != nil {
			return err
		}
	}
	return nil
}
