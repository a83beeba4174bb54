package cli

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/carry"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/pattern"
	"spindle/internal/core/syncing"
	"spindle/internal/remote"
	"spindle/internal/side"
	"spindle/internal/transfer"
)

func (a *app) syncCommand() *cli.Command {
	var modes []string
	for _, m := range syncing.Modes {
		modes = append(modes, fmt.Sprintf("%-11s %s", m.Mode, m.Says))
	}
	return &cli.Command{Name: "sync", Usage: "sync a folder or a bucket to another, once or as a job",
		ArgsUsage: "FROM TO", Commands: a.syncJobCommands(),
		Description: "A side is a folder, which begins with / or . or ~, or BUCKET or BUCKET/PREFIX/. Both are compared first: " +
			"what is the same is not sent. Between addresses of which one is @ENDPOINT/BUCKET/PREFIX/ the service does it. Times and permissions of files are kept beside their bytes, and come back with them; permissions that alone were changed are not carried until the content is.\n\n" +
			"Modes:\n  " + strings.Join(modes, "\n  ") + "\n\n" +
			"A run that would remove or replace more than a tenth of the target, or more than 1,000 objects, asks first, and so " +
			"does a mirror of nothing. Removals come last, and only when all was written.\n\n" +
			examples("spindle sync ./scans plates/2026/ --rehearse", "spindle sync ./scans plates/2026/",
				"spindle sync ./photos attic/photos/ --sealing names --passphrase-from ./phrase --bandwidth 2MiB",
				"spindle sync plates/2026/ ./copy --mode mirror", "spindle sync ./scans plates/2026/ --check --by digest"),
		Flags: local(
			&cli.StringFlag{Name: "mode", Usage: "accumulate, mirror or drain", Value: string(syncing.Accumulate)},
			&cli.BoolFlag{Name: "rehearse", Usage: "show what would be done and why; nothing is written"},
			&cli.BoolFlag{Name: "check", Usage: "rehearse, and exit with code 5 if the sides differ"},
			&cli.BoolFlag{Name: "list", Usage: "with --rehearse: list every object, not some of each kind"},
			&cli.StringFlag{Name: "by", Value: string(syncing.ByTime),
				Usage: "compare by time (and size), digest (objects without one are read), or size alone"},
			&cli.StringSliceFlag{Name: "like",
				Usage: "only keys like this `PATTERN`: * is any number of characters, also /, ? is one; may be repeated"},
			&cli.StringSliceFlag{Name: "leave-out", Usage: "leave out keys like this `PATTERN`; may be repeated"},
			&cli.StringFlag{Name: "size-from", Usage: "only objects of at least this `SIZE`"},
			&cli.StringFlag{Name: "size-to", Usage: "only objects of at most this `SIZE`"},
			&cli.StringFlag{Name: "older", Usage: "only objects changed at least this `LONG` ago, such as 2d"},
			&cli.StringFlag{Name: "newer", Usage: "only objects changed at most this `LONG` ago"},
			&cli.StringFlag{Name: "links", Value: string(side.SkipLinks),
				Usage: "links in a folder: skip, follow (to files in it), or keep as links"},
			&cli.StringFlag{Name: "tier", Usage: "tier of the objects written; default: the bucket's"},
			&cli.StringFlag{Name: "sealing", DefaultText: "none", Usage: sealingUsage},
			&cli.StringFlag{Name: "passphrase-from", DefaultText: "asked for",
				Usage: "read the passphrase from the first line of this `FILE`, or - for standard input"},
			&cli.StringSliceFlag{Name: "bandwidth",
				Usage: "maximum bytes per second, such as 2MiB, or by time of day, such as `'08:00-18:00 2MiB'`; may be " +
					"repeated"},
			&cli.StringFlag{Name: "guard", Usage: "ask before removing or replacing more than this `SHARE` of the " +
				"target, such as 30%, or none",
				DefaultText: "10%, or 1,000 objects"},
			&cli.IntFlag{Name: "parallel", Usage: "how many objects at a time", Value: 8},
			yesFlag(),
		),
		Action: a.syncOnce}
}

// local has flags be of a command alone, and not of those beneath it.
func local(flags ...cli.Flag) []cli.Flag {
	for _, f := range flags {
		switch f := f.(type) {
		case *cli.StringFlag:
			f.Local = true
		case *cli.BoolFlag:
			f.Local = true
		case *cli.IntFlag:
			f.Local = true
		case *cli.StringSliceFlag:
			f.Local = true
		}
	}
	return flags
}

// isFolder reports whether an argument names a folder of this machine.
func isFolder(s string) bool {
	return s == "~" || strings.HasPrefix(s, "~/") || strings.HasPrefix(s, ".") || filepath.IsAbs(s)
}

// sideOf gives what an argument names; release lets go of it.
func (a *app) sideOf(ctx context.Context, c *cli.Command, p *desk, s string) (of side.Side, release func(), err error) {
	if isFolder(s) {
		links, err := side.ParseLinks(c.String("links"))
		if err != nil {
			return nil, nil, err
		}
		if rest, ok := strings.CutPrefix(s, "~"); ok {
			home, err := os.UserHomeDir()
			if err != nil {
				return nil, nil, err
			}
			s = home + rest
		}
		f := &side.Folder{Dir: filepath.Clean(s), Links: links, Odd: a.leftOut()}
		return f, func() { _ = f.Close() }, nil
	}
	at, err := endpoint.ParseAddress(s)
	if err != nil {
		return nil, nil, err
	}
	if at.Endpoint != "" {
		return nil, nil, fault.New(fault.Unfinished, "sync-endpoint",
			"a folder of this machine and an endpoint are not synced with each other").
			In("address").Do("sync the folder with a bucket, and the bucket with the endpoint")
	}
	if at.Key != "" && !strings.HasSuffix(at.Key, "/") {
		at.Key += "/"
	}
	w, err := p.wireClient(ctx)
	if err != nil {
		return nil, nil, err
	}
	if _, err := w.List(ctx, at.Bucket, at.Key, "", "", 1); err != nil {
		return nil, nil, err
	}
	return side.Beneath(&side.There{Conn: &remote.Conn{Client: w}, Bucket: at.Bucket}, at.Key), func() {}, nil
}

// leftOut tells of what is left out of a folder, once, and of so many things at the most.
func (a *app) leftOut() func(key, what string) {
	const most = 1000
	told := map[string]bool{}
	return func(key, what string) {
		if told[key] || len(told) == most || a.json {
			return
		}
		told[key] = true
		a.note("left out: %s is %s", shown(key), what)
	}
}

// syncJob reads what is to be done from arguments and flags.
func (a *app) syncJob(ctx context.Context, c *cli.Command) (j *carry.Job, release func(), err error) {
	in, err := args(c, 2, 2)
	if err != nil {
		return nil, nil, err
	}
	p, err := a.open(c)
	if err != nil && (!isFolder(in[0]) || !isFolder(in[1])) {
		return nil, nil, err
	}
	j = &carry.Job{Class: c.String("tier"), Sealed: c.String("sealing") == sealedAtRest, Parallel: c.Int("parallel"),
		Anyway: c.Bool("yes")}
	if j.Parallel < 1 || j.Parallel > 256 {
		return nil, nil, fault.New(fault.Invalid, "parallel", "1 to 256 objects are under way at a time").In("parallel")
	}
	if j.Guard, err = readGuard(c); err != nil {
		return nil, nil, err
	}
	if j.Options, err = readSyncing(c); err != nil {
		return nil, nil, err
	}
	if j.Rate, err = readBandwidth(c); err != nil {
		return nil, nil, err
	}
	from, freeFrom, err := a.sideOf(ctx, c, p, in[0])
	if err != nil {
		return nil, nil, err
	}
	to, freeTo, err := a.sideOf(ctx, c, p, in[1])
	if err != nil {
		freeFrom()
		return nil, nil, err
	}
	if f, ok := to.(*side.Folder); ok && !c.Bool("rehearse") && !c.Bool("check") {
		if err := os.MkdirAll(f.Dir, 0o777); err != nil {
			return nil, nil, fault.New(fault.Invalid, "folder", "the folder %s cannot be made", f.Dir).In("to").Because(err)
		}
	}
	j.From, j.To = from, to
	if how := c.String("sealing"); how != "" && how != "none" && how != sealedAtRest {
		if isFolder(in[0]) || !isFolder(in[1]) {
			j.To, err = a.sealSide(ctx, c, to, true)
		} else {
			j.From, err = a.sealSide(ctx, c, from, false)
		}
		if err != nil {
			freeFrom()
			freeTo()
			return nil, nil, err
		}
	}
	if p != nil {
		j.Uploads = &syncUploads{a, p.base + " " + in[1]}
	}
	return j, func() { freeFrom(); freeTo() }, nil
}

// readBandwidth reads how many bytes a second may be sent; nil: any number.
func readBandwidth(c *cli.Command) (func(time.Time) int64, error) {
	var paced syncing.Job
	for _, s := range c.StringSlice("bandwidth") {
		l, err := syncing.ParseLimit(s)
		if err != nil {
			return nil, fault.From(err).In("bandwidth")
		}
		paced.Limits = append(paced.Limits, l)
	}
	if paced.Zone = time.Local.String(); len(paced.Limits) == 0 {
		return nil, nil
	}
	return paced.Rate, nil
}

func readGuard(c *cli.Command) (syncing.Guard, error) {
	s := c.String("guard")
	switch s {
	case "":
		return syncing.Usual, nil
	case "none":
		return syncing.Guard{Share: 1, Most: 1 << 62}, nil
	}
	n, err := strconv.ParseFloat(strings.TrimSuffix(s, "%"), 64)
	if err != nil || !strings.HasSuffix(s, "%") || n < 0 || n > 100 {
		return syncing.Guard{}, fault.New(fault.Invalid, "guard", "%q is no share", s).In("guard").
			Do("give it as 30%%, or none")
	}
	return syncing.Guard{Share: n / 100, Most: 1 << 62}, nil
}

// readSyncing reads how sides are compared, and what takes part.
func readSyncing(c *cli.Command) (o syncing.Options, err error) {
	if o.Mode, err = syncing.ParseMode(c.String("mode")); err != nil {
		return o, err
	}
	if o.By, err = syncing.ParseBy(c.String("by")); err != nil {
		return o, err
	}
	for flag, into := range map[string]*[]pattern.Pattern{"like": &o.Filter.Like, "leave-out": &o.Filter.LeaveOut} {
		for _, s := range c.StringSlice(flag) {
			p, err := pattern.Parse(s)
			if err != nil {
				return o, fault.From(err).In(flag)
			}
			*into = append(*into, p)
		}
	}
	for flag, into := range map[string]**int64{"size-from": &o.Filter.SizeFrom, "size-to": &o.Filter.SizeTo} {
		if c.IsSet(flag) {
			if *into, err = parseSize(flag, c.String(flag)); err != nil {
				return o, err
			}
		}
	}
	for flag, into := range map[string]*time.Duration{"older": &o.Filter.OlderBy, "newer": &o.Filter.NewerBy} {
		if c.IsSet(flag) {
			if *into, err = object.ParseDuration(c.String(flag)); err != nil {
				return o, fault.From(err).In(flag)
			}
		}
	}
	return o, nil
}

// elsewhere reports whether two sides are addresses of which one is at an endpoint.
func elsewhere(from, to string) bool {
	return !isFolder(from) && !isFolder(to) && (strings.HasPrefix(from, "@") || strings.HasPrefix(to, "@"))
}

// syncThrough has the service bring one address to another, once: by a job that is removed
// when it is done.
func (a *app) syncThrough(ctx context.Context, c *cli.Command) error {
	p, err := a.open(c)
	if err != nil {
		return err
	}
	in := api.NewSync{Name: "once-" + strings.ToLower(rand.Text()[:12])}
	if err = readFlags(c, &in); err == nil {
		err = a.syncChange(c, &in.SyncChange, "this job")
	}
	if err != nil {
		return err
	}
	from, to := c.Args().Get(0), c.Args().Get(1)
	in.From, in.To = &from, &to
	var j api.SyncInfo
	if err := p.call(ctx, http.MethodPost, "/api/v1/syncs", nil, in, &j); err != nil {
		return err
	}
	return a.runOnce(ctx, c, p, j, "")
}

// syncOnce brings one side to another, with no job.
func (a *app) syncOnce(ctx context.Context, c *cli.Command) error {
	if in := c.Args().Slice(); len(in) == 2 && elsewhere(in[0], in[1]) {
		return a.syncThrough(ctx, c)
	}
	j, release, err := a.syncJob(ctx, c)
	if err != nil {
		return err
	}
	defer release()
	if c.Bool("rehearse") || c.Bool("check") {
		return a.syncRehearse(ctx, c, j)
	}
	r, err := a.syncRun(ctx, j)
	if (fault.HasCode(err, "guard") || fault.HasCode(err, "source-empty")) && a.Asks && r.Written.Objects == 0 {
		word := "anyway"
		if cerr := a.confirm(c, "This run stops: "+fault.From(err).Message+".", word); cerr != nil {
			return cerr
		}
		j.Anyway = true
		r, err = a.syncRun(ctx, j)
	}
	return a.onceEnded(j, r, err)
}

// onceEnded sums a run up, and gives what the command ends with.
func (a *app) onceEnded(j *carry.Job, r carry.Result, err error) error {
	if perr := a.syncSays(j, r, err); perr != nil {
		return perr
	}
	switch {
	case err != nil && !errors.Is(err, context.Canceled):
		return err
	case err != nil:
		return exitOnly(ExitFailed)
	case r.Failed > 0:
		return exitOnly(ExitFailed)
	}
	return nil
}

func (a *app) syncRun(ctx context.Context, j *carry.Job) (carry.Result, error) {
	m := &meter{}
	defer func() { m.stop() }()
	j.Ready = func(t *syncing.Totals) {
		m = a.meter(int(t.New.Objects+t.Replace.Objects), t.New.Bytes+t.Replace.Bytes)
	}
	j.Moved = func(n int64) { m.Skip(n) }
	var mu sync.Mutex
	j.Tell = func(_ context.Context, o carry.Outcome) {
		mu.Lock()
		defer mu.Unlock()
		switch {
		case a.json:
			line := syncLine{Key: o.Key, Do: string(o.Do), Why: string(o.Why), Bytes: o.Bytes}
			if o.Err != nil {
				line.Error = fault.From(o.Err).Message
			}
			_ = a.print(line, nil) // the summary fails too when nothing can be written
		case o.Err != nil:
			a.note("failed: %s: %s", shown(o.Key), shown(fault.From(o.Err).Error()))
		}
	}
	return j.Run(ctx)
}

// syncLine is an object of a run or rehearsal, for programs.
type syncLine struct {
	Key   string `json:"key"`
	Do    string `json:"do"`
	Why   string `json:"why"`
	Bytes int64  `json:"bytes"`
	Error string `json:"error,omitempty"`
}

// syncSum is what a run came to, for programs.
type syncSum struct {
	Written  syncing.Sum `json:"written"`
	Same     syncing.Sum `json:"same"`
	Removed  syncing.Sum `json:"removed"`
	Drained  syncing.Sum `json:"drained"`
	Failed   int64       `json:"failed"`
	NotTaken int64       `json:"notRemoved"`
	AtHand   syncing.Sum `json:"atHand"`
}

// syncSays sums a run up.
func (a *app) syncSays(j *carry.Job, r carry.Result, err error) error {
	if err != nil && r.Written.Objects+r.Removed.Objects+r.Failed == 0 {
		return nil // it did not begin
	}
	return a.print(syncSum{r.Written, r.Same, r.Removed, r.Drained, r.Failed, r.NotTaken, r.AtHand}, func() error {
		says := []string{fmt.Sprintf("Wrote %s, %s", things(r.Written.Objects, "object", "objects"), size(r.Written.Bytes)),
			fmt.Sprintf("%s the same already", count(r.Same.Objects))}
		if r.Removed.Objects > 0 {
			says = append(says, fmt.Sprintf("removed %s at the target", count(r.Removed.Objects)))
		}
		if r.AtHand.Objects > 0 {
			says = append(says, fmt.Sprintf("%s of them were there under another key, and not sent", count(r.AtHand.Objects)))
		}
		if j.Options.Mode == syncing.Drain {
			says = append(says, fmt.Sprintf("removed %s at the source", count(r.Drained.Objects)))
		}
		if r.Failed > 0 {
			says = append(says, fmt.Sprintf("%s failed", count(r.Failed)))
		}
		if r.NotTaken > 0 {
			says = append(says, fmt.Sprintf("%s were not removed, because of that", count(r.NotTaken)))
		}
		if errors.Is(err, context.Canceled) {
			says = append(says, "stopped: the same command goes on")
		}
		_, err := fmt.Fprintln(a.Out, strings.Join(says, "; ")+".")
		return err
	})
}

// someOfEach is how many objects a rehearsal names of each kind.
const someOfEach = 5

// syncRehearse says what a run would do, and why.
func (a *app) syncRehearse(ctx context.Context, c *cli.Command, j *carry.Job) error {
	named := map[syncing.Why]int{}
	var failed error
	type kind struct {
		do  syncing.Deed
		why syncing.Why
	}
	sums := map[kind]*syncing.Sum{}
	j.Each = func(s *syncing.Step) bool {
		k := kind{s.Do, s.Why}
		line := syncLine{Key: s.Key, Do: string(s.Do), Why: string(s.Why), Error: s.Says}
		if line.Bytes = s.Target.SizeOr(0); s.Source != nil {
			line.Bytes = s.Source.Size
		}
		if sums[k] == nil {
			sums[k] = &syncing.Sum{}
		}
		sums[k].Objects++
		sums[k].Bytes += line.Bytes
		switch quiet := s.Do == syncing.Skip || s.Do == syncing.Leave; {
		case a.json:
			failed = a.print(line, nil)
		case !quiet && (c.Bool("list") || named[s.Why] < someOfEach):
			named[s.Why]++
			_, failed = fmt.Fprintf(a.Out, "%-7s %-24s %10s  %s\n", s.Do, s.Why, size(line.Bytes), shown(s.Key))
		}
		return failed == nil
	}
	t, err := j.Rehearse(ctx)
	if err = errors.Join(err, failed); err != nil {
		return err
	}
	if !a.json {
		var rows [][]string
		for _, k := range []kind{{syncing.Write, syncing.New}, {syncing.Write, syncing.Size}, {syncing.Write, syncing.Digest},
			{syncing.Write, syncing.Newer}, {syncing.Remove, syncing.Only}, {syncing.Leave, syncing.Only},
			{syncing.Refuse, syncing.NoPlace}, {syncing.Refuse, syncing.Broken}, {syncing.Skip, syncing.Same}} {
			if s := sums[k]; s != nil {
				rows = append(rows, []string{string(k.do), string(k.why), count(s.Objects), size(s.Bytes)})
			}
		}
		if len(rows) == 0 {
			rows = [][]string{{"nothing", "both sides are empty", "0", ""}}
		}
		fmt.Fprintln(a.Out)
		if err := a.table([]column{{"WOULD", false}, {"BECAUSE IT IS", false}, {"OBJECTS", true}, {"SIZE", true}},
			rows); err != nil {
			return err
		}
		if err := j.Guard.Check(&t, j.Options.Mode); err != nil {
			a.note("A run would ask first: %s.", fault.From(err).Message)
		}
	}
	if c.Bool("check") && t.Differ() {
		return exitOnly(ExitDifferent)
	}
	return nil
}

// syncUploads remembers uploads of large objects that are under way, so that the same run
// goes on with them after a stop.
type syncUploads struct {
	a  *app
	to string // service and side
}

func (u *syncUploads) path(key, content string) (string, error) {
	dir, err := u.a.uploadStates()
	if err != nil {
		return "", err
	}
	name := sha256.Sum256([]byte(u.to + "\x00" + key + "\x00" + content))
	return filepath.Join(dir, "sync-"+hex.EncodeToString(name[:12])), nil
}

// Known gives the upload of an object's content that was begun and did not end.
func (u *syncUploads) Known(key, content string) string {
	path, err := u.path(key, content)
	if err != nil {
		return ""
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return "" // there is none
	}
	return string(b)
}

// Keep remembers an upload; "" forgets it.
func (u *syncUploads) Keep(key, content, upload string) error {
	path, err := u.path(key, content)
	if err != nil {
		return err
	}
	if upload == "" {
		if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return transfer.LocalError(path, err)
	}
	if err := os.WriteFile(path, []byte(upload), 0o600); err != nil {
		return transfer.LocalError(path, err)
	}
	return nil
}
