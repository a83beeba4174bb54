package cli

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/sync/errgroup"

	"spindle/internal/core/digest"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/desk"
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
}

// tally sums up a run of transfers.
type tally struct {
	a            *app
	mu           sync.Mutex
	moved, there desk.Quantity
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
		f := fault.From(t.first)
		if f.Remedy != "" {
			t.a.note("  to mend it: %s", shown(f.Remedy))
		}
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

// outgoing is a file to put.
type outgoing struct {
	local string
	key   string
	size  int64
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
	cut, err := newCutting(c, 1)
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
	files, err := a.gather(sources, key, isPrefix)
	if err != nil {
		return err
	}
	files, metas, err := fields.of(files)
	if err != nil {
		return err
	}
	w, err := p.wireClient(ctx)
	if err != nil {
		return err
	}
	var bytes int64
	for _, f := range files {
		bytes += f.size
	}
	m := a.meter(len(files), bytes)
	t := &tally{a: a, started: time.Now()}
	var g errgroup.Group
	g.SetLimit(cap(cut.slots))
	for i, f := range files {
		if ctx.Err() != nil {
			break
		}
		g.Go(func() error {
			x := transferred{Local: f.local, Bucket: bucket, Key: f.key, Size: f.size, State: "put"}
			info, err := a.putFile(ctx, w, m, bucket, f, cut, client.Put{ContentType: c.String("content-type"), Metadata: metas[i], Tags: fields.tags, IfAbsent: c.Bool("if-absent")})
			x.ETag, x.Version, x.MetadataBytes = info.ETag, info.Version, metas[i].Size()
			t.note(x, err)
			return nil
		})
	}
	_ = g.Wait() // errors are in the tally
	m.stop()
	if ctx.Err() != nil {
		a.note("Stopped. What was put is there; say it again to put the rest.")
	}
	if err := t.end("Put"); err != nil || a.json {
		return err
	}
	return fields.used(a, metas)
}

func (a *app) putFile(ctx context.Context, w *client.Client, m *meter, bucket string, f outgoing, cut *cutting, opt client.Put) (client.Info, error) {
	if opt.ContentType == "" {
		opt.ContentType = mime.TypeByExtension(path.Ext(f.key))
	}
	if f.size > cut.above {
		return a.putParts(ctx, w, m, bucket, f, opt, cut)
	}
	file, err := os.Open(f.local)
	if err != nil {
		return client.Info{}, localError(f.local, err)
	}
	defer file.Close()
	r, done := m.file(f.local, f.size, file)
	info, err := w.Put(ctx, bucket, f.key, r, f.size, opt)
	done(err == nil)
	return info, err
}

func localError(name string, err error) error {
	f := fault.New(fault.Invalid, "local-file", "%s: %s", name, rootCause(err)).In("file").Because(err)
	if errors.Is(err, fs.ErrNotExist) {
		f.Kind = fault.NotFound
		f.Message = name + " does not exist"
	}
	return f
}

func rootCause(err error) string {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err.Error()
	}
	return err.Error()
}

// gather finds the files to put and their keys.
func (a *app) gather(sources []string, key string, isPrefix bool) ([]outgoing, error) {
	var files []outgoing
	for _, s := range sources {
		st, err := os.Stat(s)
		if err != nil {
			return nil, localError(s, err)
		}
		switch {
		case st.Mode().IsRegular():
			k := key
			if isPrefix {
				k += filepath.Base(s)
			} else if len(sources) > 1 {
				return nil, wrongUsage("several files go beneath a prefix: end the target with a slash")
			}
			files = append(files, outgoing{s, k, st.Size()})
		case st.IsDir():
			if !isPrefix {
				return nil, wrongUsage("%s is a folder: end the target with a slash, %s/", s, key)
			}
			err := filepath.WalkDir(s, func(p string, d fs.DirEntry, err error) error {
				if err != nil {
					return localError(p, err)
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
				files = append(files, outgoing{p, key + filepath.ToSlash(rel), info.Size()})
				return nil
			})
			if err != nil {
				return nil, err
			}
		default:
			return nil, wrongUsage("%s is neither a file nor a folder", s)
		}
	}
	for _, f := range files {
		if _, err := object.ParseKey(f.key); err != nil {
			return nil, fault.From(err).In(f.local)
		}
	}
	if len(files) == 0 {
		return nil, wrongUsage("there are no files in it")
	}
	return files, nil
}

// putStream puts standard input.
func (a *app) putStream(ctx context.Context, c *cli.Command, p *api, bucket, key string, fields *fields, cut *cutting) error {
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
	info, err := a.putStdin(ctx, w, bucket, key, client.Put{ContentType: ct, Metadata: meta, Tags: fields.tags, IfAbsent: c.Bool("if-absent")}, cut)
	if err != nil {
		return err
	}
	return a.print(transferred{Local: "-", Bucket: bucket, Key: key, Size: info.Size, ETag: info.ETag, Version: info.Version, MetadataBytes: meta.Size(), State: "put"}, func() error {
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
	parallel := c.Int("parallel")
	if parallel < 1 || parallel > 64 {
		return wrongUsage("--parallel is 1 to 64")
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
		return a.getTree(ctx, c, p, w, bucket, key, asOf, dest)
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
	o, err := p.show(ctx, bucket, key, version, "")
	if err != nil {
		return a.orBeneath(ctx, p, bucket, key, err)
	}
	if o.Marker {
		return fault.New(fault.Conflict, "version-marker", "this version is a delete marker: it has no content").In("version").Do("name another version; spindle object history %s lists them", in[0])
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
	x.State, err = a.getFile(ctx, w, m, bucket, key, version, o.ETag, dest, o.Size, o.Digests[0].Value, c.Bool("replace"), parallel)
	m.stop()
	t.note(x, err)
	return t.end("Got")
}

func (a *app) getStream(ctx context.Context, p *api, w *client.Client, bucket, key, version string) error {
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
	_, err = io.Copy(a.Out, o.Body)
	return err
}

// getTree fetches all beneath a prefix into a folder.
func (a *app) getTree(ctx context.Context, c *cli.Command, p *api, w *client.Client, bucket, prefix, asOf, dest string) error {
	parallel := c.Int("parallel")
	if parallel < 1 || parallel > 64 {
		return wrongUsage("--parallel is 1 to 64")
	}
	if dest == "-" {
		return wrongUsage("a tree does not go to standard output: name a folder")
	}
	if dest == "" {
		dest = "."
	}
	var q desk.Quantity
	var err error
	if asOf == "" {
		q, err = p.remove(ctx, bucket, desk.RemoveIn{Prefix: &prefix, Rehearse: true}) // a rehearsal counts
	} else {
		err = p.each(ctx, bucket, prefix, asOf, func(o desk.ListedObject) (bool, error) {
			q.Objects++
			q.Bytes += o.Size
			return true, nil
		})
	}
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
	g.SetLimit(parallel)
	var stop atomic.Bool
	err = p.each(ctx, bucket, prefix, asOf, func(o desk.ListedObject) (bool, error) {
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
			var err error
			x.State, err = a.getFile(ctx, w, m, bucket, o.Key, version, o.ETag, x.Local, o.Size, o.CRC64, c.Bool("replace"), parallel)
			t.note(x, err)
			return nil
		})
		return !stop.Load() && ctx.Err() == nil, nil
	})
	_ = g.Wait() // errors are in the tally
	m.stop()
	if ctx.Err() != nil {
		a.note("Stopped. What was got is there; say it again to get the rest.")
	} else if err != nil {
		return err
	}
	return t.end("Got")
}

// getFile fetches an object into a file, unless a file with its size and digest
// is there. The bytes come beside it first, so that the file is never half.
func (a *app) getFile(ctx context.Context, w *client.Client, m *meter, bucket, key, version, etag, dest string, n int64, crc string, replace bool, parallel int) (state string, err error) {
	if st, err := os.Stat(dest); err == nil {
		same, err := sameFile(dest, st, n, crc)
		if err != nil {
			return "", localError(dest, err)
		}
		if same {
			m.skip(n)
			return "there", nil
		}
		if !replace {
			return "", fault.New(fault.Conflict, "file-exists", "%s is there and differs", dest).In("file").Do("move it away, or say --replace")
		}
	}
	if err := os.MkdirAll(filepath.Dir(dest), 0o777); err != nil {
		return "", localError(filepath.Dir(dest), err)
	}
	if n > 2*rangeSize && etag != "" {
		return a.getLarge(ctx, w, m, bucket, key, version, etag, dest, n, crc, parallel)
	}
	tmp, err := os.CreateTemp(filepath.Dir(dest), ".spindle-part-*")
	if err != nil {
		return "", localError(dest, err)
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	o, err := w.Get(ctx, bucket, key, version, 0, "")
	if err != nil {
		return "", err
	}
	defer o.Body.Close()
	r, done := m.file(dest, n, o.Body)
	_, err = io.Copy(tmp, r)
	done(err == nil)
	if err != nil {
		return "", err
	}
	if err := errors.Join(tmp.Chmod(0o666&^umask()), tmp.Sync(), tmp.Close()); err != nil {
		return "", localError(dest, err)
	}
	if err := os.Rename(tmp.Name(), dest); err != nil {
		return "", localError(dest, err)
	}
	if !o.Modified.IsZero() {
		_ = os.Chtimes(dest, o.Modified, o.Modified) // a convenience: not every filesystem keeps times
	}
	return "got", nil
}

// getLarge fetches an object in ranges, compares it as a whole and puts it in
// its place. Stopped, the same command goes on.
func (a *app) getLarge(ctx context.Context, w *client.Client, m *meter, bucket, key, version, etag, dest string, n int64, crc string, parallel int) (state string, err error) {
	tmp, err := getRanges(ctx, w, m, bucket, key, version, etag, dest, n, parallel)
	if err != nil {
		return "", err
	}
	st, err := os.Stat(tmp)
	if err != nil {
		return "", localError(dest, err)
	}
	same, err := sameFile(tmp, st, n, crc)
	if err != nil {
		return "", localError(dest, err)
	}
	if !same {
		return "", errors.Join(fault.New(fault.Damaged, "digest-mismatch", "the bytes that arrived do not have the digest of the object").Do("get it again"), os.Remove(tmp))
	}
	if err := os.Chmod(tmp, 0o666&^umask()); err != nil {
		return "", localError(dest, err)
	}
	if err := os.Rename(tmp, dest); err != nil {
		return "", localError(dest, err)
	}
	return "got", nil
}

// sameFile reports whether a file has a size and a CRC-64/NVME, in hex.
func sameFile(name string, st fs.FileInfo, n int64, crc string) (bool, error) {
	if !st.Mode().IsRegular() || st.Size() != n {
		return false, nil
	}
	f, err := os.Open(name)
	if err != nil {
		return false, err
	}
	defer f.Close()
	sum := digest.NewCRC64()
	if _, err := io.CopyBuffer(struct{ io.Writer }{sum}, f, make([]byte, 256<<10)); err != nil {
		return false, err
	}
	return hex.EncodeToString(sum.Sum(nil)) == crc, nil
}
