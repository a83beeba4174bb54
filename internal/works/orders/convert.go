package orders

import (
	"context"
	"fmt"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/store"
)

// convertKind writes the content beneath a prefix anew, sealed or plain as the
// bucket is set.
var convertKind = Kind{Name: "convert", Parallel: 1, Counts: []string{"converted", "unchanged"}, Needs: convertNeeds,
	Prepare: prepareConvert, Rehearse: rehearseConvert, Step: convertStep}

func convertNeeds(o *catalog.Order) ([]Need, error) {
	return []Need{{access.Settings, o.Bucket, ""}}, nil
}

// prepareConvert notes how the bucket is set now.
func prepareConvert(ctx context.Context, s *store.Store, o *catalog.Order) error {
	f, err := s.Catalog.Facts(ctx, o.Bucket)
	if o.What.Sealed = f.Sealing; o.What.Prefix == nil {
		o.What.Prefix = []byte{}
	}
	return err
}

func rehearseConvert(ctx context.Context, s *store.Store, o *catalog.Order) (r Rehearsal, err error) {
	f, err := s.Catalog.Facts(ctx, o.Bucket)
	if err != nil {
		return r, err
	}
	r.Counts = map[string]int64{"converted": 0, "unchanged": 0}
	for after := []byte{}; after != nil; {
		list, keys, last, err := s.Catalog.Misfits(ctx, f.ID, o.What.Prefix, after, o.What.Sealed, 1000)
		if err != nil {
			return r, err
		}
		changed := map[string]bool{}
		for _, b := range list {
			r.Bytes += b.Size
			changed[string(b.Key)] = true
		}
		r.Counts["unchanged"] += int64(keys - len(changed))
		r.Counts["converted"] += int64(len(changed))
		after = last
	}
	return r, nil
}

// convertStep writes the bodies of the next keys anew. What is so already is passed,
// so a step can be repeated. The cursor of the last page is kept until its bodies
// are done.
func convertStep(ctx context.Context, s *store.Store, o *catalog.Order) (more bool, err error) {
	f, err := s.Catalog.Facts(ctx, o.Bucket)
	if err != nil {
		return false, err
	}
	list, keys, last, err := s.Catalog.Misfits(ctx, f.ID, o.What.Prefix, o.Progress.Cursor, o.What.Sealed, 50)
	if err != nil {
		return false, err
	}
	p := o.Progress.Clone() // counted when the whole page is done: what is repeated counts once
	changed := map[string]bool{}
	for _, b := range list {
		moved, err := s.Convert(ctx, b, o.What.Sealed)
		if fault.KindOf(err) == fault.Damaged {
			err = fmt.Errorf("%s: %w", b.Key, err)
		}
		if err != nil {
			return false, err
		}
		if moved {
			p.Bytes += b.Size
			changed[string(b.Key)] = true
		}
	}
	p.Count("unchanged", int64(keys-len(changed)), 0)
	p.Count("converted", int64(len(changed)), 0)
	p.Cursor = last
	o.Progress = p
	return last != nil, nil
}
