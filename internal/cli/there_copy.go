package cli

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"path"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/sync/errgroup"

	"spindle/internal/api"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
)

// objectCopyThere copies between places of which one at least is an endpoint: an object,
// or all beneath a prefix.
func (a *app) objectCopyThere(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 2, 2)
	if err == nil {
		err = only(c, "tier")
	}
	if err != nil {
		return err
	}
	from, err := endpoint.ParseAddress(in[0])
	if err != nil {
		return err
	}
	to, err := endpoint.ParseAddress(in[1])
	if err != nil {
		return err
	}
	if from.Bucket == "" || to.Bucket == "" {
		return wrongUsage("source and target name a bucket").see(c)
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	list, bytes, err := p.copyList(ctx, from, to)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		a.note("Nothing lies beneath %s.", shown(from.String()))
		return exitOnly(ExitNotFound)
	}
	m := a.meter(len(list), bytes)
	t := &tally{a: a, started: time.Now()}
	var g errgroup.Group
	g.SetLimit(4)
	for _, x := range list {
		if ctx.Err() != nil {
			break
		}
		g.Go(func() error {
			err := p.copyOne(ctx, x, c.String("tier"), m)
			t.note(transferred{Local: x.from.String(), Bucket: x.to.Bucket, Key: x.to.Key, Size: x.size, State: "copied"}, err)
			return nil
		})
	}
	_ = g.Wait() // errors are in the tally
	m.stop()
	return t.end("Copied")
}

// copying is an object to copy.
type copying struct {
	from, to endpoint.Address
	size     int64
}

// copyList gives what is to be copied, with its bytes.
func (p *desk) copyList(ctx context.Context, from, to endpoint.Address) (list []copying, bytes int64, err error) {
	add := func(key, rest string, n int64) error {
		x := copying{from, to, n}
		x.from.Key, x.to.Key = key, to.Key+rest
		list, bytes = append(list, x), bytes+n
		return nil
	}
	if from.Key == "" || strings.HasSuffix(from.Key, "/") {
		if to.Key != "" && !strings.HasSuffix(to.Key, "/") {
			return nil, 0, wrongUsage("the source is a prefix; end the target with a slash too")
		}
		each := func(key string, n int64) error { return add(key, strings.TrimPrefix(key, from.Key), n) }
		if from.Endpoint != "" {
			err = p.eachThere(ctx, from, func(o api.ObjectThere) error { return each(o.Key, o.Size) })
		} else {
			err = p.each(ctx, from.Bucket, from.Key, "", func(o api.ListedObject) (bool, error) {
				return true, each(o.Key, o.Size)
			})
		}
		return list, bytes, err
	}
	rest := ""
	if to.Key == "" || strings.HasSuffix(to.Key, "/") {
		rest = path.Base(from.Key)
	}
	var n int64
	if from.Endpoint != "" {
		var o api.ObjectThere
		err = p.call(ctx, http.MethodGet, bucketsThere(from, "/object"), url.Values{"key": {from.Key}}, nil, &o)
		n = o.Size
	} else {
		var o *api.ObjectInfo
		if o, err = p.show(ctx, from.Bucket, from.Key, "", ""); err == nil {
			n = o.Size
		}
	}
	if err != nil {
		return nil, 0, err
	}
	return list, bytes, add(from.Key, rest, n)
}

// copyOne has the service copy an object and shows how far it is.
func (p *desk) copyOne(ctx context.Context, x copying, class string, m *meter) error {
	far := &counter{}
	far.wake = sync.NewCond(&far.mu)
	r, done := m.Begin(x.to.Key, x.size, far)
	go func() { _, _ = io.Copy(io.Discard, r) }() // the meter shows what passes
	defer done()
	defer far.end(x.size)
	finished := false
	err := stream(ctx, p, "/api/v1/copies", api.CopyBetween{From: x.from.String(), To: x.to.String(), Class: class},
		func(s api.CopyStep) error {
			if s.Problem != nil {
				return s.Problem.Fault()
			}
			finished = s.Done
			far.at(s.Moved)
			return nil
		})
	if err == nil && !finished {
		err = fault.New(fault.Unavailable, "unreachable", "the service ended before the copy was there").Do("repeat the command")
	}
	return err
}

// counter is a reader of as many bytes as it is told have moved.
type counter struct {
	mu   sync.Mutex
	wake *sync.Cond
	told int64
	read int64
	over atomic.Bool
}

func (f *counter) at(n int64) {
	f.mu.Lock()
	f.told = max(f.told, n)
	f.mu.Unlock()
	f.wake.Broadcast()
}

func (f *counter) end(n int64) {
	f.over.Store(true)
	f.at(0)
}

func (f *counter) Read(p []byte) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for f.read == f.told {
		if f.over.Load() {
			return 0, io.EOF
		}
		f.wake.Wait()
	}
	n := min(int64(len(p)), f.told-f.read)
	f.read += n
	return int(n), nil
}
