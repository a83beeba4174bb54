package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/transfer"
	"spindle/internal/wire/client"
)

func (a *app) uploadCommand() *cli.Command {
	return &cli.Command{Name: "upload", Usage: "list, send, complete and abandon multipart uploads",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list unfinished uploads with what they hold, oldest first",
				ArgsUsage: "[@ENDPOINT/BUCKET[/PREFIX]]",
				Description: examples("spindle upload list", "spindle upload list --older-than 7d --bucket plates",
					"spindle upload list @lowland-annex/plates"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "older-than", Usage: "only those started before `TIME`, such as 7d ago"},
					&cli.StringFlag{Name: "bucket", Usage: "only of `BUCKET`"}},
				Action: orThere(a.uploadList, a.uploadListThere)},
			{Name: "show", Usage: "show an upload and the parts that are there", ArgsUsage: "BUCKET/KEY ID",
				Description: examples("spindle upload show plates/2026/mosaic.tif 3kq4…",
					"spindle upload show plates/2026/mosaic.tif 3kq4… --json"), Action: a.uploadShow},
			{Name: "start", Usage: "start an upload and print its id", ArgsUsage: "BUCKET/KEY",
				Description: examples("spindle upload start plates/2026/mosaic.tif",
					"spindle upload start plates/2026/mosaic.tif --metadata taxon='Calluna vulgaris' --content-type image/tiff"),
				Flags: []cli.Flag{&cli.StringSliceFlag{Name: "metadata", Usage: "`NAME=VALUE`, may be repeated"},
					&cli.StringFlag{Name: "metadata-from", Usage: "a `FILE` of fields"},
					&cli.StringSliceFlag{Name: "tag", Usage: "`NAME=VALUE`, may be repeated"},
					&cli.StringFlag{Name: "content-type", Usage: "the `TYPE` to serve it with"}},
				Action: a.uploadStart},
			{Name: "send", Usage: "send a file as one part, from any machine", ArgsUsage: "FILE BUCKET/KEY ID",
				Description: "A part has 5 MiB to 5 GiB; only the last may be smaller. If a number is sent " +
					"twice, the last one counts.\n\n" +
					examples("spindle upload send ./mosaic.001 plates/2026/mosaic.tif 3kq4… --part 1",
						"spindle upload send ./mosaic.002 plates/2026/mosaic.tif 3kq4… --part 2"),
				Flags:  []cli.Flag{&cli.IntFlag{Name: "part", Usage: "the part's number `N`, 1 to 10,000"}},
				Action: a.uploadSend},
			{Name: "complete", Usage: "complete an upload from its parts", ArgsUsage: "BUCKET/KEY ID",
				Description: "All parts are used, by number, unless you name some. No bytes are moved. Repeating " +
					"the command gives the same answer for a day.\n\n" +
					examples("spindle upload complete plates/2026/mosaic.tif 3kq4…",
						"spindle upload complete plates/2026/mosaic.tif 3kq4… --part 1 --part 2"),
				Flags: []cli.Flag{&cli.IntSliceFlag{Name: "part", Usage: "take part `N`; may be repeated, in order"},
					&cli.BoolFlag{Name: "if-absent", Usage: "refuse to overwrite an existing object"}},
				Action: a.uploadComplete},
			{Name: "resume", Usage: "resume the upload of a file", ArgsUsage: "FILE BUCKET/KEY",
				Description: "Parts that exist with the file's bytes are not sent again. Without local state, as " +
					"on another machine, the key's only unfinished upload is resumed, or the one named with " +
					"--id.\n\n" + examples("spindle upload resume ./mosaic.tif plates/2026/mosaic.tif",
					"spindle upload resume ./mosaic.tif plates/2026/mosaic.tif --id 3kq4… --parallel 8"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "id", Usage: "the upload's `ID`"},
					&cli.IntFlag{Name: "parallel", Usage: "how many parts at a time", Value: 4}},
				Action: a.uploadResume},
			{Name: "abandon", Usage: "abandon uploads; their bytes are freed", ArgsUsage: "[BUCKET/KEY ID]",
				Description: examples("spindle upload abandon plates/2026/mosaic.tif 3kq4…",
					"spindle upload abandon --older-than 7d --rehearse",
					"spindle upload abandon @lowland-annex/plates --older-than 7d --rehearse"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "older-than", Usage: "all started before `TIME`, such as 7d ago"},
					&cli.StringFlag{Name: "bucket", Usage: "with --older-than: only of `BUCKET`"},
					&cli.BoolFlag{Name: "rehearse", Usage: "only show what would be removed"}, yesFlag()},
				Action: orThere(a.uploadAbandon, a.uploadAbandonThere)},
		}}
}

func age(d time.Duration) string {
	switch {
	case d < 90*time.Second:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 90*time.Minute:
		return fmt.Sprintf("%.0f min", d.Minutes())
	case d < 36*time.Hour:
		return fmt.Sprintf("%.0f h", d.Hours())
	}
	return fmt.Sprintf("%.0f d", d.Hours()/24)
}

// olderThan reads a moment of a flag for the desk.
func olderThan(c *cli.Command) (string, error) {
	s := c.String("older-than")
	if s == "" {
		return "", nil
	}
	t, err := object.ParseMoment(s, time.Now())
	return t.Format(time.RFC3339Nano), err
}

func (a *app) uploadList(ctx context.Context, c *cli.Command) error {
	if _, err := args(c, 0, 0); err != nil {
		return err
	}
	before, err := olderThan(c)
	if err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	var rows [][]string
	var bytes int64
	for after := int64(0); ; {
		var page api.UploadPage
		q := url.Values{"bucket": {c.String("bucket")}, "olderThan": {before}, "after": {fmt.Sprint(after)},
			"limit": {"1000"}}
		if err := p.call(ctx, http.MethodGet, "/api/v1/uploads", q, nil, &page); err != nil {
			return err
		}
		for _, u := range page.Uploads {
			if a.json {
				if err := a.print(u, nil); err != nil {
					return err
				}
				continue
			}
			bytes += u.Bytes
			rows = append(rows, []string{size(u.Bytes), count(u.Parts), age(time.Since(u.Started)), u.By, u.ID,
				shown(u.Bucket + "/" + u.Key)})
		}
		if after = page.Next; after == 0 {
			break
		}
	}
	if a.json {
		return nil
	}
	if len(rows) == 0 {
		a.note("There are no unfinished uploads that match.")
		return nil
	}
	if err := a.table([]column{{"HELD", true}, {"PARTS", true}, {"AGE", true}, {"BY", false}, {"ID", false},
		{"KEY", false}}, rows); err != nil {
		return err
	}
	a.note("%s, %s held", things(int64(len(rows)), "unfinished upload", "unfinished uploads"), size(bytes))
	return nil
}

// oneUpload opens the service and gives the upload that the command names, after
// some other arguments.
func (a *app) oneUpload(c *cli.Command, before int) (p *desk, other []string, u api.UploadName, err error) {
	in, err := args(c, before+2, before+2)
	if err != nil {
		return nil, nil, u, err
	}
	if u.Bucket, u.Key, err = split(in[before]); err != nil {
		return nil, nil, u, err
	}
	u.ID = in[before+1]
	p, err = a.open(c)
	return p, in[:before], u, err
}

func uploadCall(u api.UploadName, rest string) (string, url.Values) {
	return bucketCall(u.Bucket, "/uploads/"+url.PathEscape(u.ID)+rest), url.Values{"key": {u.Key}}
}

// shownUpload is an upload with its parts.
type shownUpload struct {
	api.UploadInfo
	List []api.UploadPart `json:"list"`
}

func (p *desk) upload(ctx context.Context, u api.UploadName) (out shownUpload, err error) {
	path, q := uploadCall(u, "")
	return out, p.call(ctx, http.MethodGet, path, q, nil, &out)
}

func (a *app) uploadShow(ctx context.Context, c *cli.Command) error {
	p, _, name, err := a.oneUpload(c, 0)
	if err != nil {
		return err
	}
	u, err := p.upload(ctx, name)
	if err != nil {
		return err
	}
	return a.print(u, func() error {
		if err := a.facts([][2]string{{"Upload", u.ID}, {"Of", shown(u.Bucket + "/" + u.Key)},
			{"Started", when(u.Started) + " by " + u.By + " from " + u.Source},
			{"Held", fmt.Sprintf("%s in %s", size(u.Bytes), things(u.Parts, "part", "parts"))}}); err != nil ||
			len(u.List) == 0 {
			return err
		}
		rows := make([][]string, len(u.List))
		for i, x := range u.List {
			rows[i] = []string{count(int64(x.Number)), size(x.Size), x.ETag, x.CRC64, when(x.At), x.By + " from " + x.Source}
		}
		fmt.Fprintln(a.Out)
		return a.table([]column{{"PART", true}, {"SIZE", true}, {"ETAG", false}, {"CRC-64/NVME", false}, {"CAME", false},
			{"BY", false}}, rows)
	})
}

func (a *app) uploadStart(ctx context.Context, c *cli.Command) error {
	p, bucket, key, err := a.oneAddress(c)
	if err != nil {
		return err
	}
	f, err := newFields(c)
	if err != nil {
		return err
	}
	meta, err := f.own("")
	if err != nil {
		return err
	}
	var u api.UploadInfo
	if err := p.call(ctx, http.MethodPost, bucketCall(bucket, "/uploads"), nil,
		api.NewUpload{Key: key, ContentType: c.String("content-type"), Metadata: meta, Tags: f.tags},
		&u); err != nil {
		return err
	}
	return a.print(u, func() error {
		_, err := fmt.Fprintln(a.Out, u.ID)
		return err
	})
}

func (a *app) uploadSend(ctx context.Context, c *cli.Command) error {
	if err := needs(c, "part"); err != nil {
		return err
	}
	p, in, u, err := a.oneUpload(c, 1)
	if err != nil {
		return err
	}
	w, err := p.wireClient(ctx)
	if err != nil {
		return err
	}
	f, err := os.Open(in[0])
	if err != nil {
		return transfer.LocalError(in[0], err)
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return transfer.LocalError(in[0], err)
	}
	m := a.meter(1, st.Size())
	r, end := m.Begin(in[0], st.Size(), f)
	part, err := w.PutPart(ctx, u.Bucket, u.Key, u.ID, c.Int("part"), r, st.Size())
	end()
	m.stop()
	if err != nil {
		return err
	}
	return a.print(api.UploadPart{Number: part.Number, Size: part.Size, ETag: part.ETag,
		CRC64: fmt.Sprintf("%016x", part.CRC64), At: time.Now().UTC()}, func() error {
		_, err := fmt.Fprintf(a.Out, "Sent part %d, %s, ETag %s, CRC-64/NVME %016x.\n", part.Number, size(part.Size),
			part.ETag, part.CRC64)
		return err
	})
}

func (a *app) uploadComplete(ctx context.Context, c *cli.Command) error {
	p, _, u, err := a.oneUpload(c, 0)
	if err != nil {
		return err
	}
	in := api.CompleteAsk{IfAbsent: c.Bool("if-absent")}
	for _, n := range c.IntSlice("part") {
		in.Parts = append(in.Parts, api.PartName{Number: n})
	}
	path, q := uploadCall(u, "/complete")
	var o api.ObjectInfo
	if err := p.call(ctx, http.MethodPost, path, q, in, &o); err != nil {
		return err
	}
	return a.print(o, func() error {
		_, err := fmt.Fprintf(a.Out, "Completed %s, %s, %s. CRC-64/NVME %s\n", shown(u.Bucket+"/"+o.Key), size(o.Size),
			o.Arrived, o.CRC64())
		return err
	})
}

func (a *app) uploadResume(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 2, 2)
	if err != nil {
		return err
	}
	bucket, key, err := split(in[1])
	if err != nil {
		return err
	}
	cut, err := newCutting(c)
	if err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	w, err := p.wireClient(ctx)
	if err != nil {
		return err
	}
	st, err := os.Stat(in[0])
	if err != nil {
		return transfer.LocalError(in[0], err)
	}
	m := a.meter(1, st.Size())
	e := a.engine(w, m, cut)
	f := transfer.File{Path: in[0], Size: st.Size(), Bucket: bucket, Key: key}
	known, err := e.Known(f)
	if err != nil {
		return err
	}
	if !known || c.String("id") != "" {
		if err := a.adopt(ctx, p, e, f, c.String("id"), st.ModTime()); err != nil {
			return err
		}
	}
	t := &tally{a: a, started: time.Now()}
	x := transferred{Local: in[0], Bucket: bucket, Key: key, Size: st.Size(), State: "put"}
	info, err := e.PutParts(ctx, f, client.Put{})
	m.stop()
	x.ETag, x.Version = info.ETag, info.Version
	t.note(x, err)
	return t.end("Put")
}

// adopt takes up an upload that this machine knows nothing of: the size of its
// parts follows from those that are there.
func (a *app) adopt(ctx context.Context, p *desk, e *transfer.Engine, f transfer.File, id string,
	modified time.Time) (err error) {
	if id == "" {
		if id, err = a.onlyUpload(ctx, p, f.Bucket, f.Key); err != nil {
			return err
		}
	}
	parts, err := e.Client.Parts(ctx, f.Bucket, f.Key, id)
	if err != nil {
		return err
	}
	partSize := int64(16 << 20)
	for _, x := range parts {
		if x.Number == 1 || x.Size > partSize {
			partSize = x.Size
		}
	}
	if len(parts) > 0 && parts[0].Number != 1 {
		partSize = parts[0].Size
	}
	if (f.Size+partSize-1)/partSize > object.MaxParts {
		return fault.New(fault.Invalid, "part-size", "the parts that are there have %s: the file would have more than %d",
			size(partSize), object.MaxParts).
			In("upload").Do("start a new upload")
	}
	return e.Adopt(f, id, modified, partSize)
}

// onlyUpload gives the one unfinished upload of a key.
func (a *app) onlyUpload(ctx context.Context, p *desk, bucket, key string) (string, error) {
	var of []api.UploadInfo
	for after := int64(0); ; {
		var page api.UploadPage
		if err := p.call(ctx, http.MethodGet, "/api/v1/uploads",
			url.Values{"bucket": {bucket}, "after": {fmt.Sprint(after)}, "limit": {"1000"}}, nil, &page); err != nil {
			return "", err
		}
		for _, u := range page.Uploads {
			if u.Key == key {
				of = append(of, u)
			}
		}
		if after = page.Next; after == 0 {
			break
		}
	}
	switch len(of) {
	case 0:
		return "", fault.New(fault.NotFound, "upload-missing", "the key has no unfinished upload").In("upload").
			Do("put the file: spindle object put")
	case 1:
		return of[0].ID, nil
	}
	return "", fault.New(fault.Conflict, "uploads-many", "the key has %d unfinished uploads", len(of)).In("upload").
		Do("name one with --id; spindle upload list shows them")
}

func (a *app) uploadAbandon(ctx context.Context, c *cli.Command) error {
	before, err := olderThan(c)
	if err != nil {
		return err
	}
	var in api.AbandonAsk
	var p *desk
	what := "started before " + c.String("older-than") + " ago"
	if before == "" {
		var u api.UploadName
		if p, _, u, err = a.oneUpload(c, 0); err != nil {
			return err
		}
		in.Uploads = []api.UploadName{u}
		what = "of " + u.Bucket + "/" + u.Key
	} else {
		if _, err := args(c, 0, 0); err != nil {
			return err
		}
		in.OlderThan, in.Bucket = before, c.String("bucket")
		if p, err = a.open(c); err != nil {
			return err
		}
	}
	return a.abandon(ctx, c, what, func(rehearse bool) (q api.Quantity, err error) {
		in.Rehearse = rehearse
		return q, p.call(ctx, http.MethodPost, "/api/v1/uploads/abandon", nil, in, &q)
	})
}

// abandon abandons uploads, a call of the desk at a time, after saying what they hold.
func (a *app) abandon(ctx context.Context, c *cli.Command, what string,
	ask func(rehearse bool) (api.Quantity, error)) error {
	q, err := ask(true)
	if err != nil {
		return err
	}
	says := fmt.Sprintf("%s %s, %s held", things(q.Objects, "unfinished upload", "unfinished uploads"), shown(what),
		size(q.Bytes))
	if c.Bool("rehearse") {
		return a.print(q, func() error {
			_, err := fmt.Fprintf(a.Out, "Would abandon %s.\n", says)
			return err
		})
	}
	if q.Objects == 0 {
		a.note("There are no unfinished uploads that match.")
		return a.print(q, func() error { return nil })
	}
	if err := a.confirm(c, "This abandons "+says+". What was sent is gone.",
		strconv.FormatInt(q.Objects, 10)); err != nil {
		return err
	}
	var done api.Quantity
	for more := true; more; {
		step, err := ask(false)
		if err != nil {
			return err
		}
		done.Objects, done.Bytes, more = done.Objects+step.Objects, done.Bytes+step.Bytes, step.More
	}
	return a.print(done, func() error {
		_, err := fmt.Fprintf(a.Out, "Abandoned %s, %s held.\n",
			things(done.Objects, "unfinished upload", "unfinished uploads"), size(done.Bytes))
		return err
	})
}

// newCutting reads how large files are cut; parts of all files share the slots.
func newCutting(c *cli.Command) (*transfer.Cutting, error) {
	parallel := c.Int("parallel")
	if parallel < 1 || parallel > 64 {
		return nil, wrongUsage("--parallel is 1 to 64")
	}
	above, part := int64(16<<20), int64(16<<20)
	for flag, into := range map[string]*int64{"multipart-above": &above, "part-size": &part} {
		if s := c.String(flag); s != "" {
			n, err := parseSize(flag, s)
			if err != nil {
				return nil, err
			}
			if n == nil {
				return nil, wrongUsage("--%s is a size", flag)
			}
			*into = *n
		}
	}
	if part < object.MinPart || part > object.MaxSize {
		return nil, wrongUsage("--part-size is 5MiB to 5GiB")
	}
	return transfer.NewCutting(above, part, parallel), nil
}
