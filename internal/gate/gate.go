package gate

import (
	"context"
	"log/slog"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/keyring"
)

// Gate decides about requests.
type Gate struct {
	Keys    *keyring.Ring
	catalog *catalog.Catalog
	owner   func(context.Context, object.BucketName) (string, error)
	log     *slog.Logger

	mu   sync.Mutex // held while grants are looked for
	book *access.Book
	mark int64 // of the grants in it

	notes   *notes
	failing *failing

	use   sync.Mutex
	uses  map[string]catalog.KeyUse
	rates map[string]*rate.Limiter
	stop  context.CancelFunc
	done  chan struct{}
}

// New makes a gate. owner gives the account that owns a bucket. Stop it.
func New(c *catalog.Catalog, keys *keyring.Ring, owner func(context.Context, object.BucketName) (string, error),
	log *slog.Logger) *Gate {
	ctx, stop := context.WithCancel(context.Background())
	g := &Gate{Keys: keys, catalog: c, owner: owner, log: log, notes: newNotes(), failing: newFailing(),
		uses: map[string]catalog.KeyUse{}, rates: map[string]*rate.Limiter{}, stop: stop, done: make(chan struct{})}
	go func() {
		defer close(g.done)
		for ctx.Err() == nil {
			select {
			case <-ctx.Done():
				g.notes.putBack(g.notes.last(time.Now()))
			case <-time.After(time.Second):
			}
			g.flush()
		}
	}()
	return g
}

// Stop writes what was noted and ends.
func (g *Gate) Stop() {
	g.stop()
	<-g.done
}

// flush writes refusals and uses of keys. What cannot be written is kept for the
// next time.
func (g *Gate) flush() {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if list := g.notes.take(time.Now()); len(list) > 0 {
		if err := g.catalog.PutTrail(ctx, list...); err != nil {
			g.log.Warn("refusals could not be noted", "error", err)
			g.notes.putBack(list)
		}
	}
	g.use.Lock()
	uses := g.uses
	g.uses = map[string]catalog.KeyUse{}
	g.use.Unlock()
	if len(uses) > 0 {
		var list []catalog.KeyUse
		for _, u := range uses {
			list = append(list, u)
		}
		if err := g.catalog.NoteUse(ctx, list); err != nil {
			g.log.Warn("uses of keys could not be noted", "error", err)
		}
	}
}

// Key finds the key of a signed request; Use says whether it works. The error for
// none has the code key-unknown.
func (g *Gate) Key(ctx context.Context, id string) (*keyring.Key, error) {
	k, err := g.Keys.Find(ctx, id)
	if err != nil {
		return nil, err
	}
	if k == nil {
		return nil, fault.New(fault.Refused, "key-unknown", "there is no access key %q here", id).In("key").
			Do("check the key's id, and that the address is of the service that made it")
	}
	return k, nil
}

// Use notes a request that a key has truly signed. It refuses a key that is
// switched off or expired, and one that makes more requests a second than it may:
// the errors have the codes key-off, key-expired and key-rate.
func (g *Gate) Use(k *keyring.Key, source string, now time.Time) error {
	if err := k.Works(now); err != nil {
		g.Refused(k.Subject(), source, k.Account, k.ID, "use", fault.From(err).Message)
		return err
	}
	g.failing.good(k.ID, source, now)
	g.use.Lock()
	defer g.use.Unlock()
	g.uses[k.ID] = catalog.KeyUse{ID: k.ID, At: now, From: source}
	if k.Rate <= 0 {
		return nil
	}
	l := g.rates[k.ID]
	if l == nil {
		if len(g.rates) > 10_000 {
			clear(g.rates)
		}
		l = rate.NewLimiter(rate.Limit(k.Rate), k.Rate)
		g.rates[k.ID] = l
	}
	if l.Limit() != rate.Limit(k.Rate) {
		l.SetLimit(rate.Limit(k.Rate))
		l.SetBurst(k.Rate)
	}
	if !l.AllowN(now, 1) {
		return fault.New(fault.Unavailable, "key-rate", "the key %s makes more than its %d requests a second", k.ID, k.Rate).
			In("key").Do("slow down, or have the key's rate raised")
	}
	return nil
}

// Book gives the grants, as known for a second.
func (g *Gate) Book(ctx context.Context) (*access.Book, error) {
	mark, err := g.catalog.Mark(ctx, catalog.MarkGrants)
	if err != nil {
		return nil, err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.book == nil || mark != g.mark {
		grants, err := g.catalog.AllGrants(ctx)
		if err != nil {
			return nil, err
		}
		g.book, g.mark = access.NewBook(grants), mark
	}
	return g.book, nil
}

// Changed has the next request look for grants anew.
func (g *Gate) Changed() { g.catalog.LookAgain() }

// Ask is a request for one right.
type Ask struct {
	Subject access.Subject
	Source  string
	Do      access.Rights
	Bucket  object.BucketName
	Key     string        // a key, or the prefix of a listing
	Some    bool          // about the bucket as such: the right on any part of it will do
	Needs   access.Rights // all that is needed there, which a refusal proposes
}

// Replicates reports whether what a subject says of the origin of an object counts; see
// access.Replicates.
func (g *Gate) Replicates(ctx context.Context, a Ask) (bool, error) {
	t := access.Target{Bucket: a.Bucket.String(), Key: a.Key}
	var err error
	if t.Owner, err = g.owner(ctx, a.Bucket); err != nil {
		return false, err
	}
	book, err := g.Book(ctx)
	return err == nil && access.Replicates(a.Subject, t, book, time.Now()), err
}

// Decide answers an ask, with the reason. A bucket that is not there is the error
// bucket-missing.
func (g *Gate) Decide(ctx context.Context, a Ask) (access.Decision, access.Target, error) {
	t := access.Target{Bucket: a.Bucket.String(), Key: a.Key, Some: a.Some, Needs: a.Needs}
	var err error
	if t.Owner, err = g.owner(ctx, a.Bucket); err != nil {
		return access.Decision{}, t, err
	}
	if a.Subject.Operator && len(a.Subject.Limits) == 0 {
		return access.Decision{Allowed: true, By: "operator"}, t, nil
	}
	book, err := g.Book(ctx)
	if err != nil {
		return access.Decision{}, t, err
	}
	return access.Decide(a.Subject, a.Do, t, book, time.Now()), t, nil
}

// May refuses an ask that is not allowed, and notes the refusal. Who may not see
// a bucket is not told whether it is there, unless he owns what he could make.
func (g *Gate) May(ctx context.Context, a Ask) error {
	d, t, err := g.Decide(ctx, a)
	if err != nil {
		if fault.HasCode(err, "bucket-missing") && a.Subject.Kind == access.Anyone {
			return access.Decision{Why: "the request is not signed, and nothing here is open to everyone under that name",
				Remedy: "sign it with an access key"}.Refused()
		}
		return err
	}
	if d.Allowed {
		return nil
	}
	g.refuse(a.Subject, a.Source, t.Owner, access.Scope{Bucket: t.Bucket, Prefix: t.Key}.String(),
		map[string]any{"do": a.Do.String(), "why": d.Why, "needs": d.Remedy})
	return d.Refused()
}

// Sees gives which buckets a subject may see at all, for catalog.Buckets: an
// account's own ("" for all), and some of others. A key's limits are not looked at:
// Lists does.
func (g *Gate) Sees(ctx context.Context, s access.Subject) (account string, also []string, err error) {
	if s.Operator {
		return "", nil, nil
	}
	book, err := g.Book(ctx)
	if err != nil {
		return "", nil, err
	}
	return s.Account, book.Buckets(s, time.Now()), nil
}

// Lists reports whether a subject may list some part of a bucket.
func (g *Gate) Lists(ctx context.Context, s access.Subject, b *catalog.Bucket) (bool, error) {
	book, err := g.Book(ctx)
	if err != nil {
		return false, err
	}
	return access.Decide(s, access.List, access.Target{Bucket: b.Name.String(), Owner: b.Account, Some: true}, book,
		time.Now()).Allowed, nil
}

// Refused notes a refusal in the trail; the same within a second counts once.
func (g *Gate) Refused(s access.Subject, source, account, subject, do, why string) {
	g.refuse(s, source, account, subject, map[string]any{"do": do, "why": why})
}

func (g *Gate) refuse(s access.Subject, source, account, subject string, detail map[string]any) {
	if s.Kind == access.Anyone { // gathered by bucket: there are more keys than anybody wants to read of
		subject, _, _ = strings.Cut(subject, "/")
	}
	g.Note(catalog.TrailEntry{Kind: access.TrailRefused, Account: account, Who: s.By(), Source: source, Subject: subject,
		Detail: detail})
}

// Note has an entry written to the trail within a second; the same is gathered
// into one, and beyond a bound per hour the rest is counted.
func (g *Gate) Note(e catalog.TrailEntry) { g.notes.add(e, time.Now()) }

// Verify compares the signature of a request with a key's secret. Wrong ones are
// gathered in the trail, and whoever sends many has to wait, with the code
// too-many-attempts, unless the key was used well from the same address lately.
func (g *Gate) Verify(k *keyring.Key, source string, verify func(secret string) error) error {
	now := time.Now()
	if wait := g.failing.wait(k.ID, source, k.UsedFrom, now); wait > 0 {
		return fault.New(fault.Unavailable, "too-many-attempts", "too many signatures with this key were wrong").In("secret").
			Do("wait %s, and check the secret", wait.Round(time.Second))
	}
	err := verify(k.Secret)
	if fault.HasCode(err, "signature-mismatch") {
		g.failing.bad(k.ID, source, now)
		g.Note(catalog.TrailEntry{Kind: access.TrailSignatureWrong, Account: k.Account, Who: "anyone", Source: source,
			Subject: k.ID, Detail: map[string]any{"why": "a signature does not fit the key's secret"}})
	}
	return err
}

// KeyNow gives a key as it is now: of what lasts, rights may end meanwhile. The errors have the codes key-unknown,
// and those of keyring.Key.Works.
func (g *Gate) KeyNow(ctx context.Context, id string) (*keyring.Key, error) {
	k, err := g.Keys.Find(ctx, id)
	if err == nil && k == nil {
		err = fault.New(fault.Refused, "key-unknown", "the access key %q was removed", id).In("key").Do("use another key")
	}
	if err == nil {
		err = k.Works(time.Now())
	}
	return k, err
}

// Again gives a function that asks again, once a second at the most, whether a
// transfer may go on: the key may have been switched off, the grant taken away.
func (g *Gate) Again(ctx context.Context, key *keyring.Key, a Ask) func() error {
	next := time.Now().Add(time.Second)
	return func() error {
		now := time.Now()
		if now.Before(next) {
			return nil
		}
		next = now.Add(time.Second)
		if key != nil {
			k, err := g.KeyNow(ctx, key.ID)
			if err != nil {
				return err
			}
			a.Subject = k.Subject()
		}
		return g.May(ctx, a)
	}
}
