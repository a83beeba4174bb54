package orders

import (
	"context"
	"slices"
	"strings"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
)

// Kind is a kind of order: all that the house knows of it. A new one is a file that
// makes one, and its line in Kinds.
type Kind struct {
	Name     string
	Parallel int      // orders of this kind that a process works on at a time
	Counts   []string // the names of its counters, as faces show them
	Needs    func(*catalog.Order) ([]Need, error)

	// Prepare checks that an order can be done, on what is there now, and settles what
	// it leaves open. It changes nothing but the order.
	Prepare func(context.Context, *store.Store, *catalog.Order) error
	// Rehearse works out what the order would do, without doing it.
	Rehearse func(context.Context, *store.Store, *catalog.Order) (Rehearsal, error)
	// Step does the next few things and notes them in the order's progress. It can be
	// done twice, and looks at what is there now. more is false at the end.
	Step func(context.Context, *store.Store, *catalog.Order) (more bool, err error)
}

// Kinds are the kinds of orders there are.
var Kinds = []Kind{renameKind, restoreKind, convertKind, foundKind, placeKind, checkKind}

// Need is what an order needs of whoever gives it: each of the rights, on all
// beneath a prefix. It is asked for before the order is taken, whenever it is
// looked at, and before each of its steps.
type Need struct {
	Do     access.Rights
	Bucket object.BucketName
	Prefix string
}

// KindOf gives a kind by its name. The error for none has the code order-kind.
func KindOf(name string) (*Kind, error) {
	i := slices.IndexFunc(Kinds, func(k Kind) bool { return k.Name == name })
	if i < 0 {
		return nil, fault.New(fault.Invalid, "order-kind", "there is no kind of order %q", name).In("kind").
			Do("choose from: %s", strings.Join(KindNames(), ", "))
	}
	return &Kinds[i], nil
}

// KindNames gives the names of all kinds.
func KindNames() []string {
	out := make([]string, len(Kinds))
	for i, k := range Kinds {
		out[i] = k.Name
	}
	return out
}

// Needs gives what an order needs. An order of a kind that is not known is nobody's:
// the error has the code order-kind.
func Needs(o *catalog.Order) ([]Need, error) {
	k, err := KindOf(o.Kind)
	if err != nil {
		return nil, err
	}
	return k.Needs(o)
}

// Rehearsal says what an order would do.
type Rehearsal struct {
	Counts map[string]int64 // of keys, by the kind's counters
	Taken  int64            // of those renamed, whose new key is taken
	First  string           // the first key that is taken
	Bytes  int64            // of the objects renamed or restored, none of which are moved; of bodies to be written anew

	// Of a placement.
	Seconds     int64   // that it may take, roughly
	MonthBefore float64 // what keeping what is moved costs a month, and what it will cost
	MonthAfter  float64
	Limits      []string // what cannot be done with what has it
}

// Total gives the keys that the order deals with.
func (r Rehearsal) Total() (n int64) {
	for _, c := range r.Counts {
		n += c
	}
	return n
}

// Rehearse works out what an order would do, on the real catalogue, without doing
// it, and checks that it can be done. The order stays as it is.
func Rehearse(ctx context.Context, s *store.Store, o *catalog.Order) (Rehearsal, error) {
	_, r, err := rehearse(ctx, s, *o)
	return r, err
}

func rehearse(ctx context.Context, s *store.Store, o catalog.Order) (catalog.Order, Rehearsal, error) {
	k, err := KindOf(o.Kind)
	if err != nil {
		return o, Rehearsal{}, err
	}
	if err := k.Prepare(ctx, s, &o); err != nil {
		return o, Rehearsal{}, err
	}
	r, err := k.Rehearse(ctx, s, &o)
	return o, r, err
}

// Order records an order after its rehearsal; the crew of some process takes it
// up within a second. One that is the same and has not finished goes on instead.
func Order(ctx context.Context, s *store.Store, o *catalog.Order, by catalog.Author) (int64, error) {
	ready, r, err := rehearse(ctx, s, *o)
	if err != nil {
		return 0, err
	}
	if r.Taken > 0 && !o.What.Replace {
		return 0, fault.New(fault.Precondition, "exists", "%d of the new keys are taken; the first is %s/%s", r.Taken,
			o.What.ToBucket, r.First).In("target").
			Do("choose another prefix, or let what is there be replaced")
	}
	by.At = s.Catalog.Now().UTC().Truncate(time.Microsecond)
	ready.Progress = catalog.OrderProgress{Total: r.Total(), Began: by.At}
	return s.Catalog.CreateOrder(ctx, &ready, by)
}
