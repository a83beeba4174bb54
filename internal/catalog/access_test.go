package catalog_test

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

// byMachine is who may do everything.
func byMachine() catalog.Author {
	a := author()
	a.Who = access.Machine
	return a
}

func TestAccountsAndTheirBounds(t *testing.T) {
	c, _, bucket := open(t)
	ctx := t.Context()
	two, quota := 2, int64(1000)
	if err := c.CreateAccount(ctx, catalog.Account{Name: "seed-lab", MaxBuckets: &two, Quota: &quota},
		byMachine()); err != nil {
		t.Fatal(err)
	}
	make := func(i int) error {
		return c.CreateBucket(ctx, catalog.Bucket{Name: object.MustBucketName(fmt.Sprint("trial-", i)), Account: "seed-lab",
			Region: "fenn"}, byMachine())
	}
	// Many at once do not pass the bound.
	var wg sync.WaitGroup
	var mu sync.Mutex
	made, refused := 0, 0
	for i := range 8 {
		wg.Go(func() {
			err := make(i)
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err == nil:
				made++
			case fault.HasCode(err, "account-buckets"):
				refused++
			default:
				t.Error(err)
			}
		})
	}
	wg.Wait()
	if made != 2 || refused != 6 {
		t.Errorf("%d made, %d refused", made, refused)
	}
	if err := c.CreateBucket(ctx, catalog.Bucket{Name: object.MustBucketName("stray"), Account: "nowhere", Region: "fenn"},
		byMachine()); err == nil {
		t.Error("a bucket of an account that there is not was made")
	}
	a, err := c.Account(ctx, "seed-lab")
	if err != nil || a.Buckets != 2 || a.Operator || a.Revision != 1 {
		t.Errorf("%+v, %v", a, err)
	}
	a.Note, a.Quota = "trials", nil
	if err := c.ChangeAccount(ctx, *a, byMachine()); err != nil {
		t.Fatal(err)
	}
	if err := c.ChangeAccount(ctx, *a, byMachine()); !fault.HasCode(err, "revision") {
		t.Errorf("a second change of what was read once: %v", err)
	}
	if err := c.RemoveAccount(ctx, "seed-lab", byMachine()); !fault.HasCode(err, "account-holds-buckets") {
		t.Errorf("removing one with buckets: %v", err)
	}
	if err := c.RemoveAccount(ctx, "herbarium", byMachine()); !fault.HasCode(err, "account-operator") {
		t.Errorf("removing the operator's: %v", err)
	}
	// What it owns shows in what may be seen, and no other's.
	for account, want := range map[string]int{"seed-lab": 2, "herbarium": 1, "": 3} {
		list, err := c.Buckets(ctx, account, nil, "", 10)
		if err != nil || len(list) != want {
			t.Errorf("buckets of %q: %d, %v", account, len(list), err)
		}
	}
	if list, err := c.Buckets(ctx, "seed-lab", []string{"plates"}, "", 10); err != nil || len(list) != 3 {
		t.Errorf("with one of another account: %d, %v", len(list), err)
	}
	// Usage of an account is that of its buckets.
	if _, err := c.Commit(ctx, write(bucket, "a", 700, 1)); err != nil {
		t.Fatal(err)
	}
	for range 100 {
		if _, err := c.RollUp(ctx, 1000); err != nil {
			t.Fatal(err)
		}
		if a, err = c.Account(ctx, "herbarium"); err != nil || a.Bytes == 700 {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if a.Bytes != 700 || err != nil {
		t.Errorf("the account holds %d bytes, %v", a.Bytes, err)
	}
}

func TestKeysInTheCatalog(t *testing.T) {
	c, _, _ := open(t)
	ctx := t.Context()
	limits := catalog.Limits{{Bucket: "plates", Prefix: "2025/\x01<ü"}, {Bucket: "loans"}}
	k := catalog.AccessKey{ID: "SCANNER", Account: "herbarium", Name: "scanner-2", Role: access.Writer, Limits: limits,
		Rate: 9, Sealed: []byte{7}, Active: true}
	if err := c.CreateKey(ctx, k, byMachine()); err != nil {
		t.Fatal(err)
	}
	if err := c.CreateKey(ctx, k, byMachine()); !fault.HasCode(err, "key-exists") {
		t.Errorf("twice: %v", err)
	}
	got, err := c.Key(ctx, "SCANNER")
	if err != nil || !slices.Equal(got.Limits, limits) || got.Role != access.Writer || got.Rate != 9 ||
		got.CreatedBy != access.Machine || !bytes.Equal(got.Sealed, []byte{7}) {
		t.Errorf("%+v, %v", got, err)
	}
	if none, err := c.Key(ctx, "no\x00body"); none != nil || err != nil {
		t.Errorf("a key with NUL: %+v, %v", none, err)
	}
	// Sixteen change one thing each under lock: nobody's change is lost.
	var wg sync.WaitGroup
	for range 16 {
		wg.Go(func() {
			if err := c.ChangeKey(ctx, "SCANNER", 0, byMachine(),
				func(k *catalog.AccessKey) error { k.Rate++; return nil }); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	if got, err = c.Key(ctx, "SCANNER"); err != nil || got.Rate != 25 || got.Revision != 17 {
		t.Errorf("rate %d at revision %d, %v", got.Rate, got.Revision, err)
	}
	if err := c.ChangeKey(ctx, "SCANNER", 3, byMachine(),
		func(*catalog.AccessKey) error { return nil }); !fault.HasCode(err, "revision") {
		t.Errorf("a change of an old revision: %v", err)
	}
	no := errors.New("no")
	if err := c.ChangeKey(ctx, "SCANNER", 0, byMachine(),
		func(*catalog.AccessKey) error { return no }); !errors.Is(err, no) {
		t.Errorf("a change that is refused: %v", err)
	}
	if err := c.ChangeKey(ctx, "K", 0, byMachine(),
		func(k *catalog.AccessKey) error { k.Operator = false; return nil }); !fault.HasCode(err, "last-operator") {
		t.Errorf("the last operator is demoted: %v", err)
	}
	// Replaced, the old one ends and the new one has its grants.
	if _, err := c.CreateGrant(ctx, catalog.GrantRow{Bucket: "plates", ToKind: access.ToKey, ToName: "SCANNER",
		Rights: access.Read}, byMachine()); err != nil {
		t.Fatal(err)
	}
	end := time.Now().Add(time.Hour).UTC().Truncate(time.Second)
	fresh, err := c.ReplaceKey(ctx, "SCANNER", "SCANNER3", []byte{8}, end, byMachine())
	if err != nil || fresh.Rate != 25 || fresh.Name != "scanner-2" || !slices.Equal(fresh.Limits, limits) {
		t.Errorf("%+v, %v", fresh, err)
	}
	if got, err = c.Key(ctx, "SCANNER"); err != nil || got.Replaced == nil || *got.Replaced != "SCANNER3" ||
		got.Expires == nil || !got.Expires.Equal(end) {
		t.Errorf("the old one: %+v, %v", got, err)
	}
	all, err := c.AllGrants(ctx)
	if err != nil || len(all) != 2 {
		t.Errorf("grants after the replacement: %+v, %v", all, err)
	}
	before := markNow(t, c, catalog.MarkGrants)
	if err := c.RemoveKey(ctx, "SCANNER", byMachine()); err != nil {
		t.Fatal(err)
	}
	after := markNow(t, c, catalog.MarkGrants)
	if all, aerr := c.AllGrants(ctx); err != nil || aerr != nil || len(all) != 1 || all[0].To.Name != "SCANNER3" ||
		after == before {
		t.Errorf("grants after the removal: %+v at %d (%d before), %v", all, after, before, aerr)
	}
	if err := c.RemoveKey(ctx, "SCANNER", byMachine()); !fault.HasCode(err, "key-missing") {
		t.Errorf("removed twice: %v", err)
	}
	if err := c.NoteUse(ctx, []catalog.KeyUse{{ID: "SCANNER3", At: end, From: "10.4.0.17"},
		{ID: "GONE", At: end}}); err != nil {
		t.Fatal(err)
	}
	if got, err = c.Key(ctx, "SCANNER3"); err != nil || got.Used == nil || got.UsedFrom != "10.4.0.17" {
		t.Errorf("%+v, %v", got, err)
	}
}

func TestPeopleInTheCatalog(t *testing.T) {
	c, _, _ := open(t)
	ctx := t.Context()
	p := catalog.PersonRow{Name: "Oda Brandvold", Password: "coded", Operator: true, Active: true,
		Members: []catalog.Member{{Account: "herbarium", Role: access.Reader}}}
	if err := c.CreatePerson(ctx, p, byMachine()); err != nil {
		t.Fatal(err)
	}
	if err := c.CreatePerson(ctx, p, byMachine()); !fault.HasCode(err, "person-exists") {
		t.Errorf("twice: %v", err)
	}
	if err := c.CreatePerson(ctx, catalog.PersonRow{Name: "X", Members: []catalog.Member{{Account: "nowhere"}}},
		byMachine()); !fault.HasCode(err, "account-missing") {
		t.Errorf("a role in no account: %v", err)
	}
	if x, err := c.FindPerson(ctx, "X"); x != nil || err != nil {
		t.Errorf("half a person stayed: %+v, %v", x, err)
	}
	now := time.Now().UTC().Truncate(time.Microsecond)
	if err := c.NoteSignIn(ctx, p.Name, now); err != nil {
		t.Fatal(err)
	}
	if got, err := c.FindPerson(ctx, p.Name); err != nil || got.SignedIn == nil {
		t.Errorf("after a success: %+v, %v", got, err)
	}
	// A session ends with the password, and two operators do not remove each other.
	token := bytes.Repeat([]byte{1}, 32)
	session := catalog.Session{Token: token, Person: &p.Name, Account: "herbarium", Forgery: "f", Created: now,
		Expires: now.Add(time.Hour)}
	if err := c.PutSession(ctx, session); err != nil {
		t.Fatal(err)
	}
	if s, err := c.FindSession(ctx, token, now); err != nil || s == nil || s.Holder() != p.Name {
		t.Fatalf("%+v, %v", s, err)
	}
	if s, err := c.FindSession(ctx, token, now.Add(2*time.Hour)); s != nil || err != nil {
		t.Errorf("an expired session: %+v, %v", s, err)
	}
	if err := c.ChangePerson(ctx, p.Name, 0, byMachine(), access.TrailPassword,
		func(p *catalog.PersonRow) error { p.Password = "new"; return nil }); err != nil {
		t.Fatal(err)
	}
	if s, err := c.FindSession(ctx, token, now); s != nil || err != nil {
		t.Errorf("a session after the password was changed: %+v, %v", s, err)
	}
	if err := c.ChangeKey(ctx, "K", 0, byMachine(),
		func(k *catalog.AccessKey) error { k.Active = false; return nil }); err != nil {
		t.Fatalf("the key goes off while a person operates: %v", err)
	}
	other := p
	other.Name = "Tam Ellery"
	if err := c.CreatePerson(ctx, other, byMachine()); err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	errs := make(chan error, 2)
	for _, name := range []string{p.Name, other.Name} {
		wg.Go(func() { errs <- c.RemovePerson(ctx, name, byMachine()) })
	}
	wg.Wait()
	a, b := <-errs, <-errs
	if (a == nil) == (b == nil) || !fault.HasCode(errors.Join(a, b), "last-operator") &&
		!fault.HasCode(a, "last-operator") && !fault.HasCode(b, "last-operator") {
		t.Errorf("two operators remove each other: %v, %v", a, b)
	}
}

func TestGrantsAndTrailInTheCatalog(t *testing.T) {
	c, _, _ := open(t)
	ctx := t.Context()
	past := time.Now().Add(-time.Hour)
	var ids []int64
	for i := range 25 {
		id, err := c.CreateGrant(ctx, catalog.GrantRow{Bucket: "plates", Prefix: fmt.Appendf(nil, "%02d/\xff\x00", i),
			Rights: access.List | access.Read, Expires: &past}, byMachine())
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, id)
	}
	if _, err := c.CreateGrant(ctx, catalog.GrantRow{Bucket: "plates", Prefix: []byte("00/\xff\x00"), Rights: access.Read},
		byMachine()); !fault.HasCode(err, "grant-exists") {
		t.Errorf("a second one for the same: %v", err)
	}
	var seen []int64
	for after := int64(0); ; {
		page, err := c.Grants(ctx, "", "plates", access.Grantee{}, after, 10)
		if err != nil {
			t.Fatal(err)
		}
		for _, g := range page {
			seen, after = append(seen, g.ID), g.ID
			if want := fmt.Sprintf("%02d/\xff\x00", len(seen)-1); string(g.Prefix) != want || g.Grant().Holds(time.Now()) {
				t.Errorf("%+v, want the prefix %q, expired", g, want)
			}
		}
		if len(page) < 10 {
			break
		}
	}
	if !slices.Equal(seen, ids) {
		t.Errorf("pages gave %v, want %v", seen, ids)
	}
	if err := c.RemoveGrant(ctx, ids[3], byMachine()); err != nil {
		t.Fatal(err)
	}
	if err := c.RemoveGrant(ctx, ids[3], byMachine()); !fault.HasCode(err, "grant-missing") {
		t.Errorf("removed twice: %v", err)
	}
	// The bucket's end is theirs.
	if err := c.RemoveBucket(ctx, plates, byMachine()); err != nil {
		t.Fatal(err)
	}
	if all, err := c.AllGrants(ctx); err != nil || len(all) != 0 {
		t.Errorf("%d grants of a bucket that is gone, %v", len(all), err)
	}

	old := time.Now().AddDate(-2, 0, 0)
	if err := c.PutTrail(ctx, catalog.TrailEntry{At: old, Kind: access.TrailRefused, Who: "x\x00y",
		Subject: "plates/\x01", Times: 3, Detail: map[string]any{"why": "\x00"}},
		catalog.TrailEntry{At: time.Now(), Kind: access.TrailKeyTested, Account: "seed-lab", Who: "Tam Ellery",
			Subject: "100%_sure"}); err != nil {
		t.Fatal(err)
	}
	ask := func(q catalog.TrailQuery) []catalog.TrailEntry {
		t.Helper()
		q.Limit = 100
		list, err := c.Trail(ctx, q)
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	if l := ask(catalog.TrailQuery{Kinds: []string{access.TrailGrantCreated}}); len(l) != 25 || l[0].ID < l[24].ID ||
		l[0].Account != "herbarium" {
		t.Errorf("grants created: %d", len(l))
	}
	if l := ask(catalog.TrailQuery{Account: "seed-lab"}); len(l) != 1 || l[0].Who != "Tam Ellery" {
		t.Errorf("of one account: %+v", l)
	}
	for prefix, want := range map[string]int{"100%": 1, "100_": 0, "%": 0} {
		if l := ask(catalog.TrailQuery{Subject: prefix, Kinds: []string{access.TrailKeyTested}}); len(l) != want {
			t.Errorf("subjects that begin with %q: %d, want %d", prefix, len(l), want)
		}
	}
	if l := ask(catalog.TrailQuery{Until: old.Add(time.Hour)}); len(l) != 1 || l[0].Times != 3 {
		t.Errorf("until then: %+v", l)
	}
	if n, err := c.ForgetTrail(ctx, time.Now().AddDate(-1, 0, 0)); err != nil || n != 1 {
		t.Errorf("%d forgotten, %v", n, err)
	}
}

func TestBodyKeys(t *testing.T) {
	c, _, _ := open(t)
	ctx := t.Context()
	if n, sealed, err := c.BodyKey(ctx, 0); n != 0 || sealed != nil || err != nil {
		t.Errorf("before there is one: %d, %v, %v", n, sealed, err)
	}
	var wg sync.WaitGroup
	for range 8 { // as many processes at the first sealed body
		wg.Go(func() {
			if err := c.NewBodyKey(ctx,
				func(name string) ([]byte, error) { return []byte("sealed for " + name), nil }); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	n, sealed, err := c.BodyKey(ctx, 0)
	if err != nil || n != 1 || string(sealed) != "sealed for body key 1" {
		t.Errorf("%d, %q, %v", n, sealed, err)
	}
	if m, _, err := c.BodyKey(ctx, 2); m != 0 || err != nil {
		t.Errorf("a second one: %d, %v", m, err)
	}
	var names []string
	if k, err := c.Reseal(ctx, func(sealed []byte, name string) ([]byte, error) {
		names = append(names, name)
		return append(sealed, '!'), nil
	}); err != nil || k != 2 || !slices.Equal(names, []string{"K", "body key 1"}) {
		t.Errorf("sealed anew: %d %v, %v", k, names, err)
	}
	if _, sealed, err = c.BodyKey(ctx, 1); err != nil || string(sealed) != "sealed for body key 1!" {
		t.Errorf("%q, %v", sealed, err)
	}
	no := errors.New("no")
	if _, err := c.Reseal(ctx, func([]byte, string) ([]byte, error) { return nil, no }); !errors.Is(err, no) {
		t.Errorf("a sealing that fails: %v", err)
	}
	if n, err := c.CountSealed(ctx); err != nil || n != 2 {
		t.Errorf("%d sealed, %v", n, err)
	}
}

// TestTriesWait holds that tries to sign in are counted before anything is compared,
// one at a time for a name, and wait longer and longer, up to a bound.
func TestTriesWait(t *testing.T) {
	c, _, _ := open(t)
	ctx := t.Context()
	counted := []catalog.Counted{{What: "person Tam", Free: 3, Sides: 1}, {What: "from 10.4.0.9", Free: 100, Sides: 4}}
	begin := func() time.Duration {
		t.Helper()
		w, err := c.BeginTry(ctx, counted)
		if err != nil {
			t.Fatal(err)
		}
		return w
	}
	end := func(good bool) {
		t.Helper()
		if err := c.EndTry(ctx, counted, good); err != nil {
			t.Fatal(err)
		}
	}
	// Many at once: one goes, and the others are told to wait.
	var wg sync.WaitGroup
	var went atomic.Int32
	for range 20 {
		wg.Go(func() {
			if w, err := c.BeginTry(ctx, counted); err != nil {
				t.Error(err)
			} else if w == 0 {
				went.Add(1)
			}
		})
	}
	wg.Wait()
	if went.Load() != 1 {
		t.Errorf("of 20 at once %d were tried", went.Load())
	}
	end(false)
	if w := begin(); w != 0 {
		t.Errorf("after one failure one waits %s", w)
	}
	end(false)
	if w := begin(); w != 0 {
		t.Errorf("after two failures one waits %s", w)
	}
	end(false)
	if w := begin(); w <= 0 || w > time.Second {
		t.Errorf("after three failures one waits %s", w)
	}
	// Another name from the same address does not wait; a success there is none here.
	other := []catalog.Counted{{What: "person Oda", Free: 3, Sides: 1}, counted[1]}
	if w, err := c.BeginTry(ctx, other); w != 0 || err != nil {
		t.Errorf("another name: %s, %v", w, err)
	}
	if err := c.EndTry(ctx, other, true); err != nil {
		t.Fatal(err)
	}
	if w := begin(); w == 0 {
		t.Error("the success of another ended the wait")
	}
	if until, err := c.TriesWait(ctx, "person Tam"); err != nil || until == nil {
		t.Errorf("until when: %v, %v", until, err)
	}
	if err := c.ForgetTries(ctx, "person Tam"); err != nil {
		t.Fatal(err)
	}
	if w := begin(); w != 0 {
		t.Errorf("after it was forgotten one waits %s", w)
	}
	end(true)
	if err := c.ForgetOld(ctx); err != nil {
		t.Error(err)
	}
	// A signature counts once.
	if err := c.UseSignature(ctx, []byte("s"), time.Now().Add(time.Minute)); err != nil {
		t.Error(err)
	}
	if err := c.UseSignature(ctx, []byte("s"), time.Now().Add(time.Minute)); !fault.HasCode(err, "signature-used") {
		t.Errorf("a signature used twice: %v", err)
	}
}

func markNow(t *testing.T, c *catalog.Catalog, m catalog.Mark) int64 {
	t.Helper()
	c.LookAgain()
	n, err := c.Mark(t.Context(), m)
	if err != nil {
		t.Fatal(err)
	}
	return n
}
