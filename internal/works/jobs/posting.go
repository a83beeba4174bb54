package jobs

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/posting"
	"spindle/internal/core/syncing"
	"spindle/internal/places"
	"spindle/internal/works/crew"
)

const (
	postFor   = 20 * time.Second // an answer is waited for
	postTurns = 50               // batches of one post, before others have their turn
)

// posts posts what changed to the addresses that want to know, each in the order of the
// journal, by one process at a time. What does not arrive is posted again, with pauses that
// grow, and nothing after it before.
func (c *Work) posts(ctx context.Context) error {
	ids, err := c.Store.Catalog.PostsToSend(ctx)
	if err != nil {
		return err
	}
	for _, id := range ids {
		under, l, ok, err := c.Claim(ctx, fmt.Sprintf("post %d", id))
		if err != nil {
			return err
		}
		if !ok {
			continue
		}
		c.Done.Go(func() {
			var wait time.Duration
			err := crew.Guarded(func() (err error) {
				wait, err = c.post(under, id)
				return err
			})
			if err != nil && ctx.Err() == nil && !l.Lost(under, err) {
				c.Log.Warn("changes could not be posted and will be tried again", "post", id, "error", err)
			}
			if err := l.Finish(wait); err != nil {
				c.Log.Debug("leases are left to run out", "error", err)
			}
		})
	}
	return nil
}

// post posts batch after batch while the post is on, and says how long to wait before it is
// tried again.
func (c *Work) post(ctx context.Context, id int64) (time.Duration, error) {
	for range postTurns {
		p, err := c.Store.Catalog.PostToSend(ctx, id)
		if err != nil || p == nil {
			return 0, err
		}
		more, err := c.postNext(ctx, p)
		if err != nil {
			f := fault.From(err)
			return max(crew.Pause(p.Failed), f.After), c.Store.Catalog.PostFailed(ctx, p.ID, f.Message)
		}
		if !more {
			return 0, nil
		}
	}
	return 0, nil
}

// postNext posts the next batch, and reports whether there may be another. Its errors are
// shown with the post.
func (c *Work) postNext(ctx context.Context, p *posting.Post) (more bool, err error) {
	secret, err := c.Settings.Remote.Secrets().OpenSecret(catalog.PostSecret(p.Account, p.Name), p.Secret)
	if err != nil {
		return false, err
	}
	// What is posted tells of the account's objects: whoever saved it must administer it still.
	by := places.SavedBy{Account: p.Account, Who: p.Who, Changed: p.Created}
	if err := c.mayUse(ctx, by, []crew.PlaceNeed{{Place: syncing.Place{Endpoint: p.URL}}}); err != nil {
		return false, err
	}
	q := catalog.JournalQuery{After: p.Place, Account: p.Account, Bucket: p.Bucket, Prefix: p.Prefix, Present: true,
		Gaps: true, Known: p.Since, Limit: posting.MaxBatch}
	for _, name := range p.Kinds {
		k, err := catalog.ParseEntryKind(name)
		if err != nil {
			return false, err
		}
		q.Kinds = append(q.Kinds, k)
	}
	page, err := c.Store.Catalog.Journal(ctx, q)
	if err != nil {
		return false, err
	}
	place := page.Next
	if n := len(page.Entries); n > 0 {
		place = page.Entries[n-1].Position()
		if err := c.postBatch(ctx, p, secret, page.Entries); err != nil {
			return false, err
		}
	}
	if place == "" {
		return false, nil
	}
	return page.Next != "", c.Store.Catalog.PostMoved(ctx, p.ID, place, len(page.Entries), c.Store.Catalog.Now().UTC())
}

// eventOf gives an entry of the journal as it is posted.
func eventOf(account string, e catalog.JournalEntry) posting.Event {
	data := map[string]any{"bucket": e.Bucket, "by": e.Who}
	if e.Key != "" {
		data["key"], data["size"], data["version"] = e.Key, e.Size, object.VersionID(e.Number).String()
	}
	if len(e.Detail) > 0 {
		data["detail"] = e.Detail
	}
	return posting.Event{SpecVersion: "1.0", ID: e.Position(), Source: "/" + account + "/" + e.Bucket,
		Type:    posting.TypeOf(e.Kind.String()),
		Subject: e.Key, Time: e.At.UTC(), ContentType: "application/json", Data: data}
}

// postBatch posts entries, and wants an answer of success. Redirects are not followed.
func (c *Work) postBatch(ctx context.Context, p *posting.Post, secret string, entries []catalog.JournalEntry) error {
	events := make([]posting.Event, len(entries))
	for i, e := range entries {
		events[i] = eventOf(p.Account, e)
	}
	body, err := json.Marshal(events)
	if err != nil {
		return err
	}
	return Deliver(ctx, c.Settings.Remote.Dial, p, secret, body, c.Store.Catalog.Now())
}

// Deliver posts a batch of events by a dialer, and wants an answer of success. The errors
// have the codes post-away and post-refused.
func Deliver(ctx context.Context, dial func(context.Context, string, string) (net.Conn, error), p *posting.Post,
	secret string, body []byte, now time.Time) error {
	ctx, cancel := context.WithTimeout(ctx, postFor)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, p.URL, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("User-Agent", "Spindle")
	for name, value := range posting.Sign(p.URL, body, p.Name, secret, now) {
		r.Header.Set(name, value)
	}
	transport := &http.Transport{DialContext: dial, DisableKeepAlives: true, TLSHandshakeTimeout: 10 * time.Second}
	client := &http.Client{Transport: transport, CheckRedirect: func(*http.Request,
		[]*http.Request) error {
		return http.ErrUseLastResponse
	}}
	resp, err := client.Do(r)
	if err != nil {
		var f *fault.Error
		if f = fault.From(err); f.Kind != fault.Internal {
			return f
		}
		return fault.New(fault.Unavailable, "post-away", "%s does not answer", p.URL).In("url").Because(err).
			Do("look whether the program there runs, and whether the address is right")
	}
	defer resp.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, 4096)) // what it says is of no interest
	if resp.StatusCode < 200 || resp.StatusCode > 299 {
		return fault.New(fault.Unavailable, "post-refused", "%s answers with status %d", p.URL, resp.StatusCode).In("url").
			Do("look what the program there says of it")
	}
	return nil
}
