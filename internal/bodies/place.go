package bodies

import (
	"context"
	"encoding/json"
	"errors"
	"io"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
)

// readMarker gives what the marker at a place says, "" when there is none.
func readMarker(ctx context.Context, at Place) (marker string, err error) {
	err = patiently(ctx, func() error {
		marker = ""
		r, _, err := at.Read(ctx, markerFile, 0, 4096)
		if fault.KindOf(err) == fault.NotFound && err != nil {
			return nil
		}
		if err != nil {
			return err
		}
		defer r.Close()
		b, err := io.ReadAll(r)
		if err != nil {
			return broke(err)
		}
		var m markerText
		if json.Unmarshal(b, &m) == nil {
			marker = m.Volume
		}
		return nil
	})
	return marker, err
}

// errStop ends a walk that has seen enough.
var errStop = errors.New("enough")

// PreparePlace makes a new volume of a place, which must be empty. The errors have the
// codes volume, volume-taken and volume-not-empty.
func PreparePlace(ctx context.Context, at Place, marker string) error {
	err := at.Fit(ctx)
	if fault.HasCode(err, "volume-keeps") {
		return err
	}
	var there string
	if err == nil {
		there, err = readMarker(ctx, at)
	}
	if err == nil && there != "" {
		return fault.New(fault.Conflict, "volume-taken", "%s is a volume already", at).In("volumes").
			Do("give another bucket or prefix; each volume is of one tier. If nothing in it is needed, remove %s there",
				markerFile)
	}
	var found string
	if err == nil {
		if err = at.Walk(ctx, "", func(name string, _ int64) error { found = name; return errStop }); errors.Is(err,
			errStop) {
			return fault.New(fault.Conflict, "volume-not-empty", "%s is not empty: %s is in it", at, found).In("volumes").
				Do("give an empty bucket, or a prefix beneath which there is nothing")
		}
	}
	if err == nil {
		err = writePlaceMarker(ctx, at, marker)
	}
	if fault.HasCode(err, "bucket-missing") {
		return fault.New(fault.Invalid, "volume", "%s cannot be made a volume: there is no such bucket", at).In("volumes").
			Do("create the bucket there, and leave it empty (spindle bucket create @ENDPOINT/BUCKET)").Because(err)
	}
	if err != nil {
		return fault.New(fault.Invalid, "volume", "%s cannot be made a volume: %s", at,
			fault.From(err).Message).In("volumes").
			Do("have the endpoint's key list, read, write and remove there; spindle endpoint check tells what it may").
			Because(err)
	}
	return nil
}

func writePlaceMarker(ctx context.Context, at Place, marker string) error {
	b, err := json.Marshal(markerText{marker, "What is here is a volume of Spindle. Keep this object with it."})
	if err != nil {
		return err
	}
	p := &piece{sum: digest.NewCRC64()}
	if _, err := p.Write(append(b, '\n')); err != nil {
		return err
	}
	if err := patiently(ctx, func() error { return at.Put(ctx, markerFile, p) }); err != nil {
		return err
	}
	switch is, err := readMarker(ctx, at); {
	case err != nil:
		return err
	case is != marker:
		return fault.New(fault.Conflict, "marker", "another volume was made there at the same time")
	}
	return nil
}

// DiscardPlace takes the marker of a place away in which nothing was kept.
func DiscardPlace(ctx context.Context, at Place, marker string) {
	if there, err := readMarker(ctx, at); err == nil && there == marker {
		_ = at.Remove(ctx, markerFile) // one that stays says itself what it is
	}
}
