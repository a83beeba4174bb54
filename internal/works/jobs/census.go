package jobs

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"spindle/internal/catalog"
	"spindle/internal/censusfile"
	"spindle/internal/core/access"
	"spindle/internal/core/census"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/query"
	"spindle/internal/core/runs"
	"spindle/internal/core/syncing"
	"spindle/internal/core/tier"
	"spindle/internal/places"
	"spindle/internal/side"
	"spindle/internal/works/crew"
)

const (
	censusKeys    = 200_000          // of a file
	censusReaders = 2                // of one snapshot
	censusWaits   = 15 * time.Minute // for a target that is away
)

// censuses asks for censuses whose schedule is due, and writes one that waits, or that a
// process left. One is written at a time in the house: each holds a snapshot.
func (c *Work) censuses(ctx context.Context) error {
	due := schedule[census.Census]{"census", func(x *census.Census) string { return x.Name },
		c.Store.Catalog.CensusesDue, NextCensus, c.Store.Catalog.CensusNext}
	if err := due.ask(ctx, c.Crew); err != nil {
		return err
	}
	if x, _, err := c.Store.Catalog.CensusToRun(ctx); err != nil || x == nil {
		return err
	}
	under, l, ok, err := c.Claim(ctx, "census")
	if err != nil || !ok {
		return err
	}
	err = c.writeCensus(under, l)
	if l.Lost(under, err) || ctx.Err() != nil {
		err = nil // it is taken up again
	}
	return errors.Join(err, l.Finish(0))
}

// NextCensus gives when a census's schedule is due next, nil when it has none or is off.
func NextCensus(x *census.Census, now time.Time) (*time.Time, error) {
	return nextRun(x.On, x.Schedule, x.Zone, now)
}

// CensusNeeds gives what a census needs of whoever saved it, when it lists these buckets.
func CensusNeeds(x *census.Census, buckets []*catalog.Bucket) []crew.PlaceNeed {
	out := []crew.PlaceNeed{{Place: x.To, Do: access.Write}}
	for _, b := range buckets {
		out = append(out, crew.PlaceNeed{Place: syncing.Place{Bucket: b.Name.String(), Prefix: x.From.Prefix}, Do: access.List | access.Read})
	}
	return out
}

// CensusBuckets gives the buckets that a census lists, by name. The error for one that is
// not the account's has the code census-from.
func CensusBuckets(ctx context.Context, cat *catalog.Catalog, x *census.Census) (out []*catalog.Bucket, err error) {
	if x.From.Bucket != "" {
		name, err := object.ParseBucketName(x.From.Bucket)
		if err != nil {
			return nil, fault.From(err).In("from")
		}
		b, err := cat.Bucket(ctx, name)
		if err == nil && b.Account != x.Account {
			err = fault.New(fault.NotFound, "bucket-missing", "there is no bucket %q of this account", x.From.Bucket).
				Do("a census lists buckets of the account that it is of")
		}
		if err != nil {
			return nil, fault.From(err).In("from")
		}
		return []*catalog.Bucket{b}, nil
	}
	for after := ""; ; {
		list, err := cat.Buckets(ctx, x.Account, nil, after, 1000)
		if err != nil || len(list) == 0 {
			return out, err
		}
		after = list[len(list)-1].Name.String()
		out = append(out, list...)
	}
}

// censusRun is a census that is being written.
type censusRun struct {
	crew    *Work
	of      *census.Census
	columns []census.Column
	where   query.Expr
	tiers   tier.Set
	buckets []*catalog.Bucket
	left    syncing.Place // the folder of a process that left the run; without a bucket: none

	mu    sync.Mutex
	run   *census.Run
	parts []*censusPart // in the order of what they list

	rows, objects, sent atomic.Int64
}

// censusPart is a file while it is made: it lies in the folder for work, without a name.
type censusPart struct {
	file *os.File
	census.File
	crc uint64
}

// writeCensus does the oldest run that waits, and settles how it ended.
func (c *Work) writeCensus(ctx context.Context, l *crew.Lease) error {
	x, r, err := c.Store.Catalog.CensusToRun(ctx)
	if err != nil || x == nil {
		return err
	}
	w := &censusRun{crew: c, of: x, run: r}
	now := c.Store.Catalog.Now().UTC()
	if r.State == runs.Running { // a process left it, and what it sent
		w.left = r.To
	}
	r.Begin(now)
	r.Started = &now
	r.Result = census.Result{To: x.To, Columns: x.Columns, Format: x.Format}
	// Whoever takes it up again has a folder of its own: one that was frozen may still write.
	r.To.Prefix += fmt.Sprintf("%s/%s-run-%d/", x.Name, now.Format("2006-01-02T15-04-05Z"), r.ID)
	if _, err := w.save(ctx); err != nil {
		return err
	}
	going, stop := context.WithCancelCause(ctx)
	kept := make(chan struct{})
	go func() {
		defer close(kept)
		w.keep(going, stop)
	}()
	err = w.write(going)
	cause := context.Cause(going)
	stop(nil)
	<-kept
	for _, p := range w.parts {
		_ = p.file.Close() // it has no name, and is gone
	}
	if l.Lost(ctx, err) || ctx.Err() != nil {
		return err
	}
	ended := c.Store.Catalog.Now().UTC()
	switch {
	case errors.Is(cause, errStopped):
		r.End(ended, runs.Stopped, nil)
	case err != nil:
		c.Log.Warn("a census failed", "census", x.Name, "account", x.Account, "error", err)
		r.End(ended, runs.Failed, err)
	default:
		r.End(ended, runs.Done, nil)
	}
	_, err = w.save(ctx)
	return err
}

// keep writes down now and then how far it is, and stops when somebody asks.
func (w *censusRun) keep(ctx context.Context, stop context.CancelCauseFunc) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(syncSaveEvery):
		}
		if asked, err := w.save(ctx); err == nil && asked {
			stop(errStopped)
			return
		}
	}
}

func (w *censusRun) save(ctx context.Context) (stop bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	w.mu.Lock()
	defer w.mu.Unlock()
	w.run.Rows, w.run.Objects, w.run.Sent = w.rows.Load(), w.objects.Load(), w.sent.Load()
	return w.crew.Store.Catalog.SaveCensusRun(ctx, w.run)
}

// set changes what is known of the run, beside those who save it.
func (w *censusRun) set(f func(*census.Run)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	f(w.run)
}

// write lists and sends, as long as whoever saved the census may have it done.
func (w *censusRun) write(ctx context.Context) (err error) {
	c := w.crew
	if w.buckets, err = CensusBuckets(ctx, c.Store.Catalog, w.of); err != nil {
		return err
	}
	by := places.SavedBy{Account: w.of.Account, Who: w.of.Who, Source: w.of.Source, Changed: w.of.Changed}
	needs := CensusNeeds(w.of, w.buckets)
	if err := c.mayUse(ctx, by, needs); err != nil {
		return err
	}
	may, given := crew.Still(ctx, func(ctx context.Context) error { return c.mayUse(ctx, by, needs) })
	defer given()
	err = w.writeFor(may, by)
	if refused := crew.RefusedOf(may); refused != nil {
		return refused
	}
	return err
}

func (w *censusRun) writeFor(ctx context.Context, by places.SavedBy) (err error) {
	c := w.crew
	if w.columns, err = census.ParseColumns(w.of.Columns); err != nil {
		return err
	}
	if w.tiers, err = c.Store.Tiers(ctx); err != nil {
		return err
	}
	sides := &places.Sides{Store: c.Store, Remote: c.Settings.Remote}
	to, _, err := sides.Bucket(ctx, by, w.run.To, nil)
	if err != nil {
		return err
	}
	w.clearLeft(ctx, sides, by)
	if err := w.list(ctx); err != nil {
		return err
	}
	if err := w.send(ctx, to); err != nil {
		w.takeBack(ctx, to)
		return err
	}
	return nil
}

// clearLeft removes what a process that left the run had sent, as far as that can be: it has
// no manifest, and is no census.
func (w *censusRun) clearLeft(ctx context.Context, sides *places.Sides, by places.SavedBy) {
	if w.left.Bucket == "" || w.left == w.run.To {
		return
	}
	err := func() error {
		of, _, err := sides.Bucket(ctx, by, w.left, nil)
		if err != nil {
			return err
		}
		list, err := of.List(ctx, "", "", 1000)
		for _, f := range list {
			if err == nil {
				err = of.Remove(ctx, f.Key)
			}
		}
		return err
	}()
	if err != nil {
		w.crew.Log.Warn("files of a census that broke off are left where they are", "census", w.of.Name, "in",
			w.left.String(), "error", err)
	}
}

// list writes all files from one snapshot, into the folder for work: however slow the
// target is, the snapshot is held no longer than the catalog takes.
func (w *censusRun) list(ctx context.Context) error {
	long := fault.New(fault.Slow, "census-long",
		"the census cannot be read within %d min, for which the database keeps a moment as it was",
		int(catalog.SnapshotFor.Minutes())).Do("take a census of each bucket, or of prefixes")
	ctx, cancel := context.WithTimeoutCause(ctx, catalog.SnapshotFor, long)
	defer cancel()
	snapshot, err := w.crew.Store.Catalog.Snapshot(ctx)
	if err != nil {
		return err
	}
	defer snapshot.Close()
	now := snapshot.At
	if w.of.Where != "" {
		if w.where, err = query.Parse(w.of.Where, now); err != nil {
			return err
		}
	}
	w.set(func(r *census.Run) { r.AsOf = &now })
	g, within := errgroup.WithContext(ctx)
	type slice struct {
		ask *catalog.CensusAsk
		to  *censusPart
	}
	todo := make(chan slice)
	g.Go(func() error {
		defer close(todo)
		return w.slices(within, snapshot, func(ask *catalog.CensusAsk) error {
			p := &censusPart{}
			w.parts = append(w.parts, p)
			select {
			case todo <- slice{ask, p}:
				return nil
			case <-within.Done():
				return within.Err()
			}
		})
	})
	for range censusReaders {
		g.Go(func() error {
			r, err := snapshot.Reader(within)
			if err != nil {
				return err
			}
			defer r.Close()
			for s := range todo {
				if err := w.part(within, r, s.ask, s.to); err != nil {
					return err
				}
			}
			return nil
		})
	}
	err = g.Wait()
	w.parts = made(w.parts)
	if cause := context.Cause(ctx); err != nil && errors.Is(cause, long) {
		return cause
	}
	return err
}

// made leaves out what was not begun.
func made(parts []*censusPart) (out []*censusPart) {
	for _, p := range parts {
		if p.file != nil {
			out = append(out, p)
		}
	}
	return out
}

// slices gives the parts of all buckets, in their order.
func (w *censusRun) slices(ctx context.Context, s *catalog.Snapshot, f func(*catalog.CensusAsk) error) error {
	for _, b := range w.buckets {
		facts, err := w.crew.Store.Facts(ctx, b.Name)
		if fault.HasCode(err, "bucket-missing") { // it went meanwhile
			continue
		}
		if err != nil {
			return err
		}
		ask := catalog.CensusAsk{Bucket: facts.ID, Name: b.Name.String(), Prefix: w.of.From.Prefix, Where: w.where,
			Versions: w.of.Versions, Metadata: census.NeedsMap(w.columns, "field"), Tags: census.NeedsMap(w.columns, "tag"),
			Tiers: w.tiers, Now: s.At}
		if w.of.From.Prefix == "" {
			w.set(func(r *census.Run) { r.Total += expected(b, w.of.Versions) })
		}
		if err := s.Slices(ctx, ask.Bucket, ask.Prefix, censusKeys, func(part catalog.Slice) error {
			one := ask
			one.Slice = part
			return f(&one)
		}); err != nil {
			return err
		}
	}
	return nil
}

// expected gives how many rows a bucket has, roughly.
func expected(b *catalog.Bucket, versions bool) int64 {
	if versions {
		return b.Usage.Objects + b.Usage.Previous + b.Usage.Markers
	}
	return b.Usage.Objects
}

// part writes one file.
func (w *censusRun) part(ctx context.Context, r *catalog.SnapshotReader, ask *catalog.CensusAsk,
	p *censusPart) (err error) {
	if p.file, err = scratch(w.crew.Settings.Scratch); err != nil {
		return err
	}
	counted := censusfile.Count(p.file)
	to, err := censusfile.New(w.of.Format, w.columns, counted)
	if err != nil {
		return err
	}
	const tell = 1000 // rows
	var bytes int64
	add := func() {
		w.rows.Add(p.Rows % tell)
		w.objects.Add(bytes)
	}
	if err := r.Rows(ctx, ask, func(row *census.Row) error {
		bytes += row.Size
		if p.Rows++; p.Rows%tell == 0 {
			w.rows.Add(tell)
		}
		return to.Write(row)
	}); err != nil {
		return full(err)
	}
	add()
	if err := to.Close(); err != nil {
		return full(err)
	}
	p.Bytes = counted.Bytes
	p.SHA256, p.crc = counted.Sums()
	return nil
}

// scratch gives a file without a name: when the process ends it is gone.
func scratch(dir string) (*os.File, error) {
	f, err := os.CreateTemp(dir, "census-*")
	if err != nil {
		return nil, fault.New(fault.Unavailable, "scratch", "the service's folder for work cannot be used").Because(err).
			Do("have its operator look at the disk of the data directory")
	}
	if err := os.Remove(f.Name()); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// full says that the disk of the folder for work is.
func full(err error) error {
	if errors.Is(err, syscall.ENOSPC) {
		return fault.New(fault.Unavailable, "scratch-full", "the disk of the service's folder for work is full").Because(err).
			Do("have its operator make room on the disk of the data directory, or list fewer columns")
	}
	return err
}

// fileBody is a file to be sent.
type fileBody struct{ io.ReaderAt }

func (b fileBody) Range(_ context.Context, from, length int64) (io.ReadCloser, error) {
	return io.NopCloser(io.NewSectionReader(b, from, length)), nil
}

// filled gives the parts that hold rows; the first one when none does.
func filled(parts []*censusPart) (out []*censusPart) {
	for _, p := range parts {
		if p.Rows > 0 {
			out = append(out, p)
		}
	}
	if len(out) == 0 && len(parts) > 0 {
		out = parts[:1]
	}
	return out
}

// send brings the files to the target, and the manifest last.
func (w *censusRun) send(ctx context.Context, to side.Side) error {
	var files []census.File
	for _, p := range filled(w.parts) {
		p.Key = fmt.Sprintf("part-%05d.%s", len(files)+1, w.of.Format.Ending())
		files = append(files, p.File)
		if err := w.put(ctx, to, p.Key, fileBody{p.file}, side.Write{Facts: side.Facts{Size: p.Bytes, CRC64: &p.crc,
			Headers: object.Headers{ContentType: w.of.Format.Type()}}}); err != nil {
			return err
		}
	}
	w.set(func(r *census.Run) {
		r.Files, r.Bytes = files, 0
		for _, f := range files {
			r.Bytes += f.Bytes
		}
	})
	from := w.of.From.String()
	if w.of.From.Bucket == "" {
		from = w.of.Account
	}
	m := census.Manifest{Census: w.of.Name, AsOf: *w.run.AsOf, Written: w.crew.Store.Catalog.Now().UTC(), From: from,
		Where: w.of.Where, Versions: w.of.Versions, Format: w.of.Format, Columns: w.columns, Rows: w.rows.Load(),
		Bytes: w.objects.Load(), Files: files}
	text, err := m.Encode()
	if err != nil {
		return err
	}
	body := fileBody{bytes.NewReader(text)}
	sum, err := side.Sum(ctx, body, int64(len(text)))
	if err != nil {
		return err
	}
	return w.put(ctx, to, census.ManifestName, body, side.Write{Facts: side.Facts{Size: int64(len(text)), CRC64: &sum,
		Headers: object.Headers{ContentType: "application/json"}}})
}

// put writes a file; a target that is away is waited for.
func (w *censusRun) put(ctx context.Context, to side.Side, key string, body side.Body, what side.Write) error {
	what.Key = key
	begun, before := time.Now(), w.sent.Load()
	for failed := 0; ; failed++ {
		w.sent.Store(before)
		what.Moved = func(n int64) { w.sent.Add(n) }
		_, err := to.Write(ctx, key, body, what)
		if k := fault.KindOf(err); err == nil || k != fault.Unavailable && k != fault.Slow ||
			time.Since(begun) > censusWaits {
			w.sent.Store(before + what.Size)
			return err
		}
		f := fault.From(err)
		w.set(func(r *census.Run) { r.Code, r.Says = f.Code, "it waits: "+f.Message })
		select {
		case <-ctx.Done():
			return err
		case <-time.After(max(crew.Pause(failed), f.After)):
		}
		w.set(func(r *census.Run) { r.Code, r.Says = "", "" })
	}
}

// takeBack removes what was sent of a census that has no manifest, as far as that can be.
func (w *censusRun) takeBack(ctx context.Context, to side.Side) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	for _, p := range w.parts {
		if p.Key == "" {
			return
		}
		if err := to.Remove(ctx, p.Key); err != nil {
			w.crew.Log.Warn("files of a census that failed are left where they are", "census", w.of.Name, "to",
				w.run.To.String(),
				"error", err)
			return
		}
	}
}
