package syncing

import (
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/pattern"
	"spindle/internal/core/query"
)

// Mode says what becomes of what is at one side alone.
type Mode string

// The modes.
const (
	Accumulate Mode = "accumulate"
	Mirror     Mode = "mirror"
	Drain      Mode = "drain"
)

// Modes are all modes with what they do, in a sentence.
var Modes = []struct {
	Mode Mode
	Says string
}{
	{Accumulate, "new and changed objects are written; nothing is removed"},
	{Mirror, "the target is made equal: what is gone from the source is removed there too"},
	{Drain, "what has arrived, and was read back and agrees, is removed at the source"},
}

// ParseMode reads a mode; "" is accumulate. The error has the code mode.
func ParseMode(s string) (Mode, error) {
	if s == "" {
		return Accumulate, nil
	}
	for _, m := range Modes {
		if s == string(m.Mode) {
			return m.Mode, nil
		}
	}
	return "", fault.New(fault.Invalid, "mode", "%q is no mode", s).In("mode").Do("say accumulate, mirror or drain")
}

// Entry is what a listing tells of an object.
type Entry struct {
	Key      string
	Size     int64 // bytes
	Modified time.Time
	CRC64    *uint64     // nil: the listing does not tell
	MD5      string      // in hex; "": it does not tell
	ETag     string      // by which a read makes sure that it is still the same
	Tags     object.Tags // where the filter asks for them, as the next two
	Type     string
	Metadata object.Metadata
	Problem  string // why it cannot be read; "": it can
}

// SizeOr gives an entry's size, or another number when there is none.
func (e *Entry) SizeOr(none int64) int64 {
	if e == nil {
		return none
	}
	return e.Size
}

// Deed is what is to be done with a key.
type Deed string

// The deeds.
const (
	Write  Deed = "write"
	Doubt  Deed = "doubt"
	Skip   Deed = "skip"
	Remove Deed = "remove"
	Leave  Deed = "leave"
	Refuse Deed = "refuse"
)

// Why is the reason of a step.
type Why string

// The reasons.
const (
	New     Why = "new"
	Size    Why = "another size"
	Digest  Why = "another digest"
	Newer   Why = "newer at the source"
	Same    Why = "the same"
	Only    Why = "at the target alone"
	NoPlace Why = "the target cannot hold the key"
	Broken  Why = "the source cannot be read"
)

// Step is what is to be done with a key, and why.
type Step struct {
	Do     Deed
	Why    Why
	Key    string
	Source *Entry // nil: it is not there
	Target *Entry // nil: it is not there
	Says   string // of a step that is refused: what stands against it
}

// Replaces reports whether carrying the step out takes something away at the target.
func (s *Step) Replaces() bool { return s.Do == Remove || s.Do == Write && s.Target != nil }

// By says what objects are compared by.
type By string

// What is compared. In any case digests are, where both sides tell them for nothing.
const (
	ByTime   By = "time"   // size and time
	ByDigest By = "digest" // the bytes, read where no digest is told
	BySize   By = "size"   // size alone
)

// ParseBy reads what is compared by; "" is by time. The error has the code compare-by.
func ParseBy(s string) (By, error) {
	switch b := By(s); b {
	case "":
		return ByTime, nil
	case ByTime, ByDigest, BySize:
		return b, nil
	}
	return "", fault.New(fault.Invalid, "compare-by", "%q is nothing to compare by", s).In("by").
		Do("say time, digest or size")
}

// Filter says what takes part; what is left out is neither written nor removed.
type Filter struct {
	Prefix   string            // of keys that take part
	Like     []pattern.Pattern // keys that take part; none: all
	LeaveOut []pattern.Pattern
	SizeFrom *int64 // bytes
	SizeTo   *int64
	OlderBy  time.Duration // changed at least so long ago; 0: any
	NewerBy  time.Duration // changed at most so long ago; 0: any
	Tags     object.Tags   // that an object must have
	Where    query.Scope
}

// ParseWhere reads what must hold of an object that takes part. What a side does not tell of
// it is empty. The error has the code query.
func ParseWhere(s string, now time.Time) (query.Scope, error) {
	return query.ParseScope(s, now, []string{"key", "type", "size", "changed", "md5", "crc64", "field", "tag"})
}

// Closer reports whether more must be known of objects than a listing tells.
func (f *Filter) Closer() bool {
	closer := len(f.Tags) > 0
	query.Each(f.Where.Expr(), func(t *query.Test) {
		closer = closer || !slices.Contains([]string{"key", "size", "changed"}, t.Field.Name)
	})
	return closer
}

// object gives what a filter sees of an entry.
func (e *Entry) object() query.Object {
	o := query.Object{Key: e.Key, Size: e.Size, Changed: e.Modified, Type: e.Type, MD5: e.MD5, Metadata: e.Metadata,
		Tags: e.Tags}
	if e.CRC64 != nil {
		o.CRC64 = fmt.Sprintf("%016x", *e.CRC64)
	}
	return o
}

// Takes reports whether an object takes part, as of a moment.
func (f *Filter) Takes(e *Entry, now time.Time) bool {
	age := now.Sub(e.Modified)
	return f.takesKey(e.Key) && (f.SizeFrom == nil || e.Size >= *f.SizeFrom) && (f.SizeTo == nil || e.Size <= *f.SizeTo) &&
		(f.OlderBy == 0 || age >= f.OlderBy) && (f.NewerBy == 0 || age <= f.NewerBy) && f.tagged(e) &&
		f.Where.Holds(e.object())
}

func (f *Filter) tagged(e *Entry) bool {
	for k, v := range f.Tags {
		if has, ok := e.Tags[k]; !ok || has != v {
			return false
		}
	}
	return true
}

func (f *Filter) takesKey(key string) bool {
	return strings.HasPrefix(key, f.Prefix) && (len(f.Like) == 0 || pattern.Any(f.Like, key)) &&
		!pattern.Any(f.LeaveOut, key)
}

// Options say how sides are compared.
type Options struct {
	Mode    Mode
	By      By
	Filter  Filter
	Now     time.Time
	CanHold func(key string) error // refuses keys that the target cannot hold; nil: it holds all

	// Back says that the source is a copy of the target: it has what the target has as long
	// as it was written later.
	Back bool
}

// Plan merges the listings of source and target, each in the byte order of keys, into
// steps in the same order. It ends with the first error of a listing, or with one of the
// code listing-order when a listing is not in order: then nothing may be said to be gone.
func Plan(source, target iter.Seq2[Entry, error], o Options) iter.Seq2[Step, error] {
	return func(yield func(Step, error) bool) {
		from, stopFrom := ordered("source", source)
		defer stopFrom()
		to, stopTo := ordered("target", target)
		defer stopTo()
		s, serr := from()
		t, terr := to()
		for {
			if serr != nil || terr != nil {
				err := serr
				if err == nil {
					err = terr
				}
				yield(Step{}, err)
				return
			}
			if s == nil && t == nil {
				return
			}
			var step Step
			switch {
			case t == nil || s != nil && s.Key < t.Key:
				step = o.step(s, nil)
				s, serr = from()
			case s == nil || t.Key < s.Key:
				step = o.step(nil, t)
				t, terr = to()
			default:
				step = o.step(s, t)
				s, serr = from()
				t, terr = to()
			}
			if step.Do != "" && !yield(step, nil) {
				return
			}
		}
	}
}

// ordered gives the entries of a listing one by one, nil at its end.
func ordered(name string, list iter.Seq2[Entry, error]) (next func() (*Entry, error), stop func()) {
	pull, stop := iter.Pull2(list)
	last, any := "", false
	return func() (*Entry, error) {
		e, err, ok := pull()
		if err != nil || !ok {
			return nil, err
		}
		if any && e.Key <= last {
			return nil, fault.New(fault.Unavailable, "listing-order", "the %s lists %q after %q", name, e.Key, last).In(name).
				Do("nothing is done on such a listing; look at that store")
		}
		last, any = e.Key, true
		return &e, nil
	}, stop
}

// step is what is to be done with a key; of one that does not take part, nothing.
func (o *Options) step(s, t *Entry) Step {
	var known *Entry
	if known = s; s == nil {
		known = t
	}
	if !o.Filter.Takes(known, o.Now) {
		return Step{}
	}
	x := Step{Key: known.Key, Source: s, Target: t}
	switch {
	case s == nil && o.Mode == Mirror:
		x.Do, x.Why = Remove, Only
	case s == nil:
		x.Do, x.Why = Leave, Only
	case s.Problem != "":
		x.Do, x.Why, x.Says = Refuse, Broken, s.Problem
	case t == nil:
		x.Do, x.Why = Write, New
		if o.CanHold == nil {
			break
		}
		if err := o.CanHold(s.Key); err != nil {
			x.Do, x.Why, x.Says = Refuse, NoPlace, fault.From(err).Message
		}
	default:
		x.Do, x.Why = o.compare(s, t)
	}
	return x
}

// clockGrain is how much later a target must be than its source to be surely written after
// it: listings tell of whole seconds, and clocks are a little apart.
const clockGrain = 2 * time.Second

// compare says whether two objects of one key are the same, as far as listings tell.
func (o *Options) compare(s, t *Entry) (Deed, Why) {
	agree := func(same bool) (Deed, Why) {
		if same {
			return Skip, Same
		}
		return Write, Digest
	}
	switch {
	case s.Size != t.Size:
		return Write, Size
	case s.CRC64 != nil && t.CRC64 != nil:
		return agree(*s.CRC64 == *t.CRC64)
	case s.MD5 != "" && t.MD5 != "":
		return agree(s.MD5 == t.MD5)
	case o.By == BySize:
		return Skip, Same
	case o.By == ByDigest:
		return Doubt, Digest
	case o.Back && !s.Modified.Before(t.Modified.Add(clockGrain)):
	case t.Modified.Before(s.Modified.Add(clockGrain)):
		return Doubt, Newer
	}
	return Skip, Same
}
