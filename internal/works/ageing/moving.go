package ageing

import (
	"context"
	"sync"

	"golang.org/x/sync/errgroup"

	"spindle/internal/bodies"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
	"spindle/internal/core/object"
	"spindle/internal/store"
)

// move is a version that is to be moved, as it was judged.
type move struct {
	key    string
	number int64
	size   int64
	catalog.AgedMore
	due lifecycle.Due
}

// Moves are switched together, so many or so large: their bodies are written and held
// until then.
const (
	mostMoves     = 128
	mostMovedSize = 256 << 20
)

// movesTogether gives how many of the first moves are switched together.
func movesTogether(list []move) (n int) {
	for size := int64(0); n < len(list) && n < mostMoves && (n == 0 || size+list[n].size <= mostMovedSize); n++ {
		size += list[n].size
	}
	return n
}

// moveMany moves versions: their bodies are written anew, several at a time, and switched
// to in one transaction. What changed meanwhile is judged anew another time; what is
// damaged is noted. A tier that takes nothing more ends the run.
func (a *ageing) moveMany(ctx context.Context, list []move) error {
	written := make([]bodies.Written, len(list))
	defer func() {
		for i := range written {
			written[i].Release()
		}
	}()
	var mu sync.Mutex
	var noted []catalog.Outcome // of those that are dealt with one by one
	var plain []int             // those of one piece, by their places
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(32)
	for i, m := range list {
		g.Go(func() (err error) {
			single, moved := m.Body.File > 0, false
			if single {
				written[i], err = a.crew.Store.WriteMoved(gctx, &object.Version{Size: m.size, CRC64: m.CRC64, Body: m.Body},
					m.due.Action.To)
			} else {
				moved, err = a.moveOne(gctx, m)
			}
			mu.Lock()
			defer mu.Unlock()
			switch {
			case fault.KindOf(err) == fault.Damaged:
				noted = append(noted, outcomeOf([]byte(m.key), m.number, m.size, m.due, fault.From(err).Message))
				a.count(m.due, m.size, err)
				err = nil
			case err == nil && single:
				plain = append(plain, i)
			case moved:
				noted = append(noted, outcomeOf([]byte(m.key), m.number, m.size, m.due, ""))
				a.count(m.due, m.size, nil)
			}
			return err
		})
	}
	err := g.Wait()
	if len(noted) > 0 {
		if nerr := a.crew.Store.Catalog.NoteOutcomes(ctx, a.run, noted); err == nil {
			err = nerr
		}
	}
	if err != nil || len(plain) == 0 {
		return err
	}
	return a.switchTo(ctx, list, written, plain)
}

// switchTo has versions lie where their bodies were written.
func (a *ageing) switchTo(ctx context.Context, list []move, written []bodies.Written, plain []int) error {
	moves := make([]catalog.Moving, len(plain))
	by := catalog.Author{At: a.now(), Who: Ager}
	for i, p := range plain {
		m := list[p]
		key, err := catalog.KeyOf([]byte(m.key))
		if err == nil {
			err = written[p].There()
		}
		if err != nil {
			return err
		}
		moves[i] = catalog.Moving{Key: key, Number: m.number, Revision: m.Revision, From: m.Body, To: written[p].Ref,
			Author: by, Rule: m.due.Rule.Name(), Run: a.run.ID}
	}
	before := append([]lifecycle.RunCount(nil), a.run.Counts...)
	return a.crew.Store.Catalog.MoveBodies(ctx, a.run, moves,
		func(moved []bool) (outcomes []catalog.Outcome) {
			a.run.Counts = append([]lifecycle.RunCount(nil), before...) // it may be called again
			for i, p := range plain {
				if m := list[p]; moved[i] {
					outcomes = append(outcomes, outcomeOf([]byte(m.key), m.number, m.size, m.due, ""))
					a.count(m.due, m.size, nil)
				}
			}
			return outcomes
		})
}

// moveOne moves what is empty, or came in parts, and reports whether it did: what changed
// meanwhile stays.
func (a *ageing) moveOne(ctx context.Context, m move) (bool, error) {
	key, err := catalog.KeyOf([]byte(m.key))
	if err != nil {
		return false, err
	}
	tiers, err := a.crew.Store.Tiers(ctx)
	if err != nil {
		return false, err
	}
	to := tiers.Of(m.due.Action.To)
	if to == nil {
		return false, nil // it was taken away
	}
	v, err := a.crew.Store.Catalog.FindVersion(ctx, a.bucket.Bucket, key, object.VersionID(m.number))
	moved := false
	if err == nil && v.Revision == m.Revision {
		moved, err = a.crew.Store.Move(ctx, a.bucket.Bucket, v, to, store.Moving{
			Author: catalog.Author{At: a.now(), Who: Ager}, Rule: m.due.Rule.Name(), Run: a.run.ID})
	}
	if fault.HasCode(err, "version-missing") || fault.HasCode(err, "version-moved") {
		return false, nil
	}
	return moved, err
}
