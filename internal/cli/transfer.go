package cli

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/sync/errgroup"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/transfer"
	"spindle/internal/wire/client"
)

// transferred tells of one file, in JSON lines.
type transferred struct {
	Local         string `json:"local"`
	Bucket        string `json:"bucket"`
	Key           string `json:"key"`
	Size          int64  `json:"size"`
	ETag          string `json:"etag,omitempty"`
	Version       string `json:"version,omitempty"`
	MetadataBytes int    `json:"metadataBytes,omitempty"` // of 2,048
	State         string `json:"state"`                   // put, got, there or failed
	Error         string `json:"error,omitempty"`
	Lacks         string `json:"lacks,omitempty"` // what the bucket asks of metadata, and was not given
}

// tally sums up a run of transfers.
type tally struct {
	a            *app
	mu           sync.Mutex
	moved, there api.Quantity
	failed       int
	started      time.Time
	first        error
}

func (t *tally) note(x transferred, err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	switch {
	case err != nil:
		f := fault.From(err)
		x.State, x.Error = "failed", f.Message
		t.failed++
		if t.first == nil {
			t.first = err
		}
		if !t.a.json {
			t.a.note("failed: %s: %s", shown(x.Local), shown(fault.From(err).Error()))
		}
	case x.State == "there":
		t.there.Objects++
		t.there.Bytes += x.Size
	default:
		t.moved.Objects++
		t.moved.Bytes += x.Size
		if x.Lacks != "" && !t.a.json {
			t.a.note("%s/%s lacks what the bucket asks for: %s", x.Bucket, shown(x.Key), shown(x.Lacks))
		}
	}
	if t.a.json {
		_ = t.a.print(x, nil) // the summary fails too when nothing can be written
	}
}

func (t *tally) end(did string) error {
	if !t.a.json {
		took := time.Since(t.started)
		line := fmt.Sprintf("%s %s in %s", did, wouldGo(t.moved), took.Round(10*time.Millisecond))
		if t.moved.Bytes > 0 {
			line += fmt.Sprintf(", %s/s", size(int64(float64(t.moved.Bytes)/took.Seconds())))
		}
		if t.there.Objects > 0 {
			line += fmt.Sprintf("; %s were there already", things(t.there.Objects, "object", "objects"))
		}
		if t.failed > 0 {
			line += fmt.Sprintf("; %d failed", t.failed)
		}
		if _, err := fmt.Fprintln(t.a.Out, line+"."); err != nil {
			return err
		}
	}
	if t.failed == 1 && t.moved.Objects+t.there.Objects == 0 {
		if t.a.json {
			return t.first
		}
		t.a.remedy(fault.From(t.first))
		return exitOnly(t.a.exitCode(t.first))
	}
	if t.failed > 0 {
		return exitOnly(ExitFailed)
	}
	return nil
}

func (a *app) exitCode(err error) int {
	switch fault.KindOf(err) {
	case fault.Refused, fault.Unsigned:
		return ExitRefused
	case fault.NotFound:
		return ExitNotFound
	}
	return ExitFailed
}

// engine moves content for the command, watched by a meter.
func (a *app) engine(w *client.Client, m *meter, cut *transfer.Cutting) *transfer.Engine {
	return &transfer.Engine{Client: w, Cut: cut, Progress: m, States: a.uploadStates,
		Tell: func(format string, args ...any) {
			for i, x := range args {
				if s, ok := x.(string); ok {
					args[i] = shown(s)
				}
			}
			a.note(format, args...)
		}}
}

// uploadStates gives the folder in which uploads under way are remembered.
func (a *app) uploadStates() (string, error) {
	dir := a.Getenv("XDG_STATE_HOME")
	if dir == "" {
		home := a.Getenv("HOME")
		if home == "" {
			return "", fault.New(fault.Invalid, "no-home", "there is no home directory to keep the state of uploads in").
				In("HOME").
				Do("set HOME or XDG_STATE_HOME")
		}
		dir = filepath.Join(home, ".local", "state")
	}
	return filepath.Join(dir, "spindle", "uploads"), nil
}

func (a *app) objectPut(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 2, -1)
	if err != nil {
		return err
	}
	sources, target := in[:len(in)-1], in[len(in)-1]
	bucket, key, err := split(target)
	if err != nil {
		return err
	}
	cut, err := newCutting(c)
	if err != nil {
		return err
	}
	fields, err := newFields(c)
	if err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	isPrefix := key == "" || strings.HasSuffix(key, "/")
	if len(sources) == 1 && sources[0] == "-" {
		if isPrefix {
			return wrongUsage("standard input has no name: give the whole key")
		}
		return a.putStream(ctx, c, p, bucket, key, fields, cut)
	}
	files, folders, err := a.gather(sources, bucket, key, isPrefix)
	if err != nil {
		return err
	}
	files, metas, err := fields.of(files)
	if err != nil {
		return err
	}
	there := map[string]api.ListedObject{}
	if folders && fields.none() && c.String("content-type") == "" && c.String("tier") == "" && !c.Bool("anew") {
		if there, err = a.thereAlready(ctx, p, bucket, key, files); err != nil {
			return err
		}
	}
	w, err := p.wireClient(ctx)
	if err != nil {
		return err
	}
	if err := a.putFiles(ctx, w, cut, files, there, func(i int) client.Put {
		return client.Put{ContentType: c.String("content-type"), Metadata: metas[i], Tags: fields.tags,
			IfAbsent: c.Bool("if-absent"), Tier: c.String("tier")}
	}); err != nil || a.json {
		return err
	}
	return fields.used(a, metas)
}

// putFiles puts files, several at a time, each with what as gives for it, unless it is there.
func (a *app) putFiles(ctx context.Context, w *client.Client, cut *transfer.Cutting, files []transfer.File,
	there map[string]api.ListedObject, as func(i int) client.Put) error {
	var bytes int64
	for _, f := range files {
		bytes += f.Size
	}
	m := a.meter(len(files), bytes)
	e := a.engine(w, m, cut)
	t := &tally{a: a, started: time.Now()}
	var g errgroup.Group
	g.SetLimit(cut.Parallel())
	for i, f := range files {
		if ctx.Err() != nil {
			break
		}
		g.Go(func() error {
			t.note(putUnlessThere(ctx, e, f, as(i), there))
			return nil
		})
	}
	_ = g.Wait() // errors are in the tally
	m.stop()
	if ctx.Err() != nil {
		a.note("Stopped. What was put stays; repeat the command to put the rest.")
	}
	return t.end("Put")
}

// putUnlessThere puts a file, unless an object of its size and digest is in its place.
func putUnlessThere(ctx context.Context, e *transfer.Engine, f transfer.File, opt client.Put,
	there map[string]api.ListedObject) (transferred, error) {
	x := transferred{Local: f.Path, Bucket: f.Bucket, Key: f.Key, Size: f.Size, State: "put"}
	if o, ok := there[f.Key]; ok {
		st, err := os.Stat(f.Path)
		if err != nil {
			return x, transfer.LocalError(f.Path, err)
		}
		same, err := transfer.SameFile(f.Path, st, o.Size, o.CRC64)
		if err != nil {
			return x, transfer.LocalError(f.Path, err)
		}
		if same {
			e.Progress.Skip(f.Size)
			x.State, x.ETag, x.Version = "there", o.ETag, o.Version
			return x, nil
		}
	}
	info, err := e.PutFile(ctx, f, opt)
	x.Lacks = info.Lacks
	x.ETag, x.Version, x.MetadataBytes = info.ETag, info.Version, opt.Metadata.Size()
	return x, err
}

// thereAlready gives the objects beneath a prefix that have the keys and sizes of
// files. Who may not list what is there sends everything.
func (a *app) thereAlready(ctx context.Context, p *desk, bucket, prefix string,
	files []transfer.File) (map[string]api.ListedObject, error) {
	sizes := make(map[string]int64, len(files))
	for _, f := range files {
		sizes[f.Key] = f.Size
	}
	there := map[string]api.ListedObject{}
	err := p.each(ctx, bucket, prefix, "", func(o api.ListedObject) (bool, error) {
		if n, ok := sizes[o.Key]; ok && n == o.Size {
			there[o.Key] = o
		}
		return ctx.Err() == nil, nil
	})
	if fault.HasCode(err, "not-allowed") {
		a.note("You may not list what is in %s: everything is sent.", shown(bucket+"/"+prefix))
		return nil, nil
	}
	return there, err
}

// gather finds the files to put and their keys, and says whether folders are among
// the sources.
func (a *app) gather(sources []string, bucket, key string, isPrefix bool) (files []transfer.File, folders bool,
	err error) {
	for _, s := range sources {
		st, err := os.Stat(s)
		if err != nil {
			return nil, false, transfer.LocalError(s, err)
		}
		switch {
		case st.Mode().IsRegular():
			k := key
			if isPrefix {
				k += filepath.Base(s)
			} else if len(sources) > 1 {
				return nil, false, wrongUsage("several files go beneath a prefix: end the target with a slash")
			}
			files = append(files, transfer.File{Path: s, Size: st.Size(), Bucket: bucket, Key: k})
		case st.IsDir():
			if !isPrefix {
				return nil, false, wrongUsage("%s is a folder: end the target with a slash, %s/", s, key)
			}
			folders = true
			err := filepath.WalkDir(s+"/", func(p string, d fs.DirEntry, err error) error { // "/": it may be a link
				if err != nil {
					return transfer.LocalError(p, err)
				}
				if d.IsDir() {
					return nil
				}
				info, err := os.Stat(p) // follows links to files
				if err != nil || !info.Mode().IsRegular() {
					a.note("left out: %s is no ordinary file", shown(p))
					return nil
				}
				rel, err := filepath.Rel(s, p)
				if err != nil {
					return err
				}
				files = append(files, transfer.File{Path: p, Size: info.Size(), Bucket: bucket, Key: key + filepath.ToSlash(rel)})
				return nil
			})
			if err != nil {
				return nil, false, err
			}
		default:
			return nil, false, wrongUsage("%s is neither a file nor a folder", s)
		}
	}
	for _, f := range files {
		if _, err := object.ParseKey(f.Key); err != nil {
			return nil, false, fault.From(err).In(f.Path)
		}
	}
	if len(files) == 0 {
		return nil, false, wrongUsage("there are no files in it")
	}
	return files, folders, nil
}

// putStream puts standard input.
func (a *app) putStream(ctx context.Context, c *cli.Command, p *desk, bucket, key string, fields *fields,
	cut *transfer.Cutting) error {
	meta, err := fields.own("-")
	if err != nil {
		return err
	}
	w, err := p.wireClient(ctx)
	if err != nil {
		return err
	}
	ct := c.String("content-type")
	if ct == "" {
		ct = "application/octet-stream"
	}
	info, err := a.engine(w, &meter{}, cut).PutStream(ctx, a.in, bucket, key,
		client.Put{ContentType: ct, Metadata: meta, Tags: fields.tags, IfAbsent: c.Bool("if-absent"),
			Tier: c.String("tier")})
	if err != nil {
		return err
	}
	return a.print(transferred{Local: "-", Bucket: bucket, Key: key, Size: info.Size, ETag: info.ETag,
		Version: info.Version, MetadataBytes: meta.Size(), State: "put"}, func() error {
		_, err := fmt.Fprintf(a.Out, "Put %s from standard input.\n", size(info.Size))
		return err
	})
}

func (a *app) objectGet(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 1, 2)
	if err != nil {
		return err
	}
	bucket, key, err := split(in[0])
	if err != nil {
		return err
	}
	dest := ""
	if len(in) == 2 {
		if dest = in[1]; !isLocal(dest) {
			return wrongUsage("%q is no local path: begin it with / or ./, or say -", dest)
		}
	}
	asOf, err := a.asOf(c)
	if err != nil {
		return err
	}
	cut, err := newCutting(c)
	if err != nil {
		return err
	}
	version := c.String("version")
	if version != "" && asOf != "" {
		return wrongUsage("--version names a version, --as-of a moment: give one of them")
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	w, err := p.wireClient(ctx)
	if err != nil {
		return err
	}
	if key == "" || strings.HasSuffix(key, "/") {
		if version != "" {
			return wrongUsage("--version is of one object; a prefix is got --as-of a moment")
		}
		return a.getTree(ctx, c, p, w, cut, bucket, key, asOf, dest)
	}
	if asOf != "" {
		was, err := p.show(ctx, bucket, key, "", asOf)
		if err != nil {
			return err
		}
		version = was.Version
	}
	if dest == "-" {
		return a.getStream(ctx, p, w, bucket, key, version)
	}
	return a.getOne(ctx, c, p, w, cut, bucket, key, version, dest)
}

// getOne gets a version of an object into a file, or into a folder under its name.
func (a *app) getOne(ctx context.Context, c *cli.Command, p *desk, w *client.Client, cut *transfer.Cutting, bucket, key,
	version, dest string) error {
	o, err := p.show(ctx, bucket, key, version, "")
	if err != nil {
		return a.orBeneath(ctx, p, bucket, key, err)
	}
	if o.Marker {
		return fault.New(fault.Conflict, "version-marker", "this version is a delete marker: it has no content").
			In("version").Do("name another version; spindle object history %s/%s lists them", bucket, key)
	}
	if dest == "" {
		dest = "."
	}
	if st, err := os.Stat(dest); err == nil && st.IsDir() || strings.HasSuffix(dest, "/") {
		name, err := object.SafePath(path.Base(key))
		if err != nil {
			return err
		}
		dest = filepath.Join(dest, name)
	}
	m := a.meter(1, o.Size)
	t := &tally{a: a, started: time.Now()}
	x := transferred{Local: dest, Bucket: bucket, Key: key, Size: o.Size, ETag: o.ETag}
	got, err := a.engine(w, m, cut).GetFile(ctx, transfer.Object{Bucket: bucket, Key: key, Version: version, ETag: o.ETag,
		Size:  o.Size,
		CRC64: o.CRC64()}, dest, c.Bool("replace"))
	x.State = gotOrThere(got)
	m.stop()
	t.note(x, err)
	return t.end("Got")
}

func (a *app) getStream(ctx context.Context, p *desk, w *client.Client, bucket, key, version string) error {
	o, err := w.Get(ctx, bucket, key, version, 0, "")
	if fault.HasCode(err, "key-missing") {
		if _, serr := p.show(ctx, bucket, key, version, ""); serr != nil {
			return a.orBeneath(ctx, p, bucket, key, serr)
		}
	}
	if err != nil {
		return err
	}
	defer o.Body.Close()
	_, err = io.Copy(a.raw.Out, o.Body)
	return err
}

// getTree fetches all beneath a prefix into a folder.
func (a *app) getTree(ctx context.Context, c *cli.Command, p *desk, w *client.Client, cut *transfer.Cutting, bucket,
	prefix, asOf, dest string) error {
	if dest == "-" {
		return wrongUsage("a tree does not go to standard output: name a folder")
	}
	if dest == "" {
		dest = "."
	}
	q, err := p.quantity(ctx, bucket, prefix, asOf)
	if err != nil {
		return err
	}
	if q.Objects == 0 {
		return a.nothingAsOf(ctx, p, bucket, prefix, asOf)
	}
	a.past(asOf)
	m := a.meter(int(q.Objects), q.Bytes)
	t := &tally{a: a, started: time.Now()}
	var g errgroup.Group
	g.SetLimit(cut.Parallel())
	e := a.engine(w, m, cut)
	var stop atomic.Bool
	err = p.each(ctx, bucket, prefix, asOf, func(o api.ListedObject) (bool, error) {
		version := ""
		if asOf != "" {
			version = o.Version
		}
		x := transferred{Bucket: bucket, Key: o.Key, Size: o.Size, ETag: o.ETag}
		rel, err := object.SafePath(strings.TrimPrefix(o.Key, prefix))
		if err != nil {
			x.Local = o.Key
			t.note(x, err)
			return true, nil
		}
		x.Local = filepath.Join(dest, filepath.FromSlash(rel))
		g.Go(func() error {
			got, err := e.GetFile(ctx, transfer.Object{Bucket: bucket, Key: o.Key, Version: version, ETag: o.ETag, Size: o.Size,
				CRC64: o.CRC64},
				x.Local, c.Bool("replace"))
			x.State = gotOrThere(got)
			t.note(x, err)
			return nil
		})
		return !stop.Load() && ctx.Err() == nil, nil
	})
	_ = g.Wait() // errors are in the tally
	m.stop()
	if ctx.Err() != nil {
		a.note("Stopped. What was got stays; repeat the command to get the rest.")
	} else if err != nil {
		return err
	}
	return t.end("Got")
}

// quantity gives how much is beneath a prefix, now or as of a moment.
func (p *desk) quantity(ctx context.Context, bucket, prefix, asOf string) (q api.Quantity, err error) {
	if asOf == "" {
		return p.remove(ctx, bucket, api.RemoveIn{Prefix: &prefix, Rehearse: true}) // a rehearsal counts
	}
	err = p.each(ctx, bucket, prefix, asOf, func(o api.ListedObject) (bool, error) {
		q.Objects++
		q.Bytes += o.Size
		return true, nil
	})
	return q, err
}

func gotOrThere(got bool) string {
	if got {
		return "got"
	}
	return "there"
}
