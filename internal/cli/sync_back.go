package cli

import (
	"context"
	_ "embed"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/carry"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/sealing"
	"spindle/internal/core/syncing"
	"spindle/internal/remote"
	"spindle/internal/side"
	"spindle/internal/transfer"
)

// sealedAtRest is the way of sealing that the bucket's service does, with its own key.
const sealedAtRest = "rest"

const sealingUsage = "rest: encrypt what is written into a bucket, by its service; content or names: seal contents, or " +
	"names too, before they leave, with a passphrase"

// sealSide seals, or opens, what is at a side, with a passphrase: as the place is marked, or as a
// new and empty one is to be.
func (a *app) sealSide(ctx context.Context, c *cli.Command, of side.Side, writes bool) (side.Side, error) {
	how := c.String("sealing")
	if how != "content" && how != "names" {
		return nil, fault.New(fault.Invalid, "sealing", "%q is no way of sealing", how).In("sealing").
			Do("choose from: none, rest, content, names")
	}
	mark, err := side.ReadMark(ctx, of)
	if err != nil {
		return nil, err
	}
	if mark != nil && mark.Names != (how == "names") {
		is := map[bool]string{true: "names", false: "content"}[mark.Names]
		return nil, fault.New(fault.Conflict, "sealed-otherwise", "the place was sealed in another way").In("sealing").
			Do("say --sealing %s", is)
	}
	if mark == nil && !writes {
		return nil, fault.New(fault.NotFound, "sealed-mark", "nothing sealed is there").In("from").
			Do("look at the address, or leave --sealing out")
	}
	if mark == nil {
		if list, err := of.List(ctx, "", "", 1); err != nil || len(list) > 0 {
			return nil, fault.New(fault.Conflict, "sealed-over", "there is something at the target that is not sealed").In("to").
				Do("choose an empty prefix").Because(err)
		}
	}
	words, err := a.passphrase(c.String("passphrase-from"), mark == nil)
	if err != nil {
		return nil, err
	}
	var keys *sealing.Keys
	if mark != nil {
		keys, err = mark.Open(words)
	} else {
		if err := a.agreed(c, "What is written can be opened with the passphrase only. Losing the passphrase loses it: nobody "+
			"can bring it back.", "kept"); err != nil {
			return nil, err
		}
		mark, keys, err = sealing.New(words, how == "names")
	}
	if err != nil {
		return nil, err
	}
	if writes && !c.Bool("rehearse") && !c.Bool("check") {
		if err := side.KeepMark(ctx, of, mark); err != nil {
			return nil, err
		}
	}
	return &side.Sealed{Of: of, Keys: keys, Names: mark.Names, Odd: a.leftOut()}, nil
}

// readSealing reads what is to be sealed, with a passphrase that its owner keeps.
func (a *app) readSealing(c *cli.Command, in *api.SyncChange, job string) error {
	how := c.String("sealing")
	if how == sealedAtRest {
		how = "none" // before it leaves
	}
	if c.IsSet("sealing") {
		in.Sealing = &how
	}
	if !c.IsSet("passphrase-from") && (how == "" || how == "none") {
		return nil
	}
	words, err := a.passphrase(c.String("passphrase-from"), true)
	if err != nil {
		return err
	}
	if err := a.agreed(c, "What "+job+" writes can be opened with the passphrase only. Losing the passphrase loses it: nobody "+
		"can bring it back.\nKeep it where the service is not; spindle sync sheet says what else to keep.",
		"kept"); err != nil {
		return err
	}
	in.Passphrase, in.Kept = &words, true
	return nil
}

// agreed has somebody confirm what is no loss today and may be one some day.
func (a *app) agreed(c *cli.Command, question, word string) error {
	if !c.Bool("yes") && !a.Asks {
		return wrongUsage("nobody is there to confirm that the passphrase is kept: say --yes")
	}
	return a.confirm(c, question, word)
}

// passphrase reads one from the first line of a file, or asks for it; a new one twice.
func (a *app) passphrase(file string, isNew bool) (string, error) {
	switch {
	case file == "-":
		return a.ask("")
	case file != "":
		b, err := os.ReadFile(file)
		if err != nil {
			return "", transfer.LocalError(file, err)
		}
		first, _, _ := strings.Cut(string(b), "\n")
		return strings.TrimRight(first, "\r"), nil
	}
	words, err := a.askHidden("Passphrase: ")
	if err != nil || !isNew || !a.Asks {
		return words, err
	}
	again, err := a.askHidden("Once more: ")
	if err == nil && again != words {
		err = fault.New(fault.Invalid, "passphrase-typed", "the two are not the same").In("passphrase").Do("begin again")
	}
	return words, err
}

func (a *app) syncRestore(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	in := api.SyncRestoreAsk{To: c.String("to"), Prefix: c.String("prefix"), AsOf: c.String("as-of")}
	var j api.SyncInfo
	if err := p.call(ctx, http.MethodPost, syncsPath+url.PathEscape(name)+"/restore", nil, in, &j); err != nil {
		return err
	}
	return a.runOnce(ctx, c, p, j, "restore")
}

// runOnce rehearses a job that was made to be run once, and runs it when somebody agrees.
// One that does not run is removed.
func (a *app) runOnce(ctx context.Context, c *cli.Command, p *desk, j api.SyncInfo, word string) error {
	at := syncsPath + url.PathEscape(j.Name)
	removed := func(err error) error {
		if rerr := p.call(context.WithoutCancel(ctx), http.MethodDelete, at, nil, nil, nil); err == nil {
			return rerr
		}
		return err
	}
	if c.Bool("list") && c.Bool("rehearse") {
		if err := a.rehearsedAll(ctx, p, j.Name); err != nil {
			return removed(err)
		}
	}
	var r api.SyncRehearsal
	if err := p.call(ctx, http.MethodPost, at+"/rehearse", nil, struct{}{}, &r); err != nil {
		return removed(err)
	}
	if c.Bool("rehearse") || c.Bool("check") {
		err := a.print(r, func() error { return a.sayRehearsal(r) })
		if err == nil && c.Bool("check") && r.Differ() {
			err = exitOnly(ExitDifferent)
		}
		return removed(err)
	}
	if !a.json {
		a.note("%s", shown(j.Says))
		if err := a.sayRehearsal(r); err != nil {
			return removed(err)
		}
	}
	if r.Asks != "" || word != "" {
		if err := a.confirm(c, "This is what would be done.", cmpOr(word, "anyway")); err != nil {
			return removed(err)
		}
	}
	var run api.SyncRunInfo
	if err := p.call(ctx, http.MethodPost, at+"/runs", nil, api.SyncRunAsk{Anyway: true}, &run); err != nil {
		return removed(err)
	}
	err := a.followRun(ctx, p, j.Name, run.ID)
	if ctx.Err() != nil {
		return a.stopOnce(context.WithoutCancel(ctx), p, j.Name, run.ID)
	}
	if err != nil || word != "" {
		return err
	}
	return removed(nil)
}

// stopOnce stops the run of a job that was made for one time, and says what came of it.
func (a *app) stopOnce(ctx context.Context, p *desk, name string, run int64) error {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	at := syncsPath + url.PathEscape(name)
	goesOn := func(err error) error {
		a.note("The run goes on at the service. Follow it: spindle sync show %s; stop it: spindle sync stop %s", name, name)
		return err
	}
	if err := p.call(ctx, http.MethodPost, fmt.Sprintf("%s/runs/%d/stop", at, run), nil, nil, nil); err != nil {
		return goesOn(err)
	}
	var r api.SyncRunInfo
	for r.Ended == nil {
		if err := p.call(ctx, http.MethodGet, fmt.Sprintf("%s/runs/%d", at, run), nil, nil, &r); err != nil {
			return goesOn(err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(200 * time.Millisecond):
		}
	}
	if err := p.call(ctx, http.MethodDelete, at, nil, nil, nil); err != nil {
		return err
	}
	a.note("Stopped: %s, %s, were written. The same command goes on; parts of a large object stay there for a day for that.",
		things(r.Written.Objects, "object", "objects"), size(r.Written.Bytes))
	return exitOnly(ExitFailed)
}

//go:embed sheet.html
var sheetPage string

func (a *app) syncSheet(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	var sheet struct {
		Text string `json:"text"`
	}
	if err := p.call(ctx, http.MethodGet, syncsPath+url.PathEscape(name)+"/sheet", nil, nil, &sheet); err != nil {
		return err
	}
	file := c.String("page")
	if file == "" {
		return a.print(sheet, func() error {
			_, err := fmt.Fprint(a.Out, sheet.Text)
			return err
		})
	}
	page, err := template.New("sheet").Parse(sheetPage)
	if err != nil {
		return err
	}
	var b strings.Builder
	if err := page.Execute(&b, map[string]string{"Name": name, "Text": sheet.Text}); err != nil {
		return err
	}
	if err := os.WriteFile(file, []byte(b.String()), 0o644); err != nil {
		return transfer.LocalError(file, err)
	}
	return a.print(map[string]string{"page": file}, func() error {
		_, err := fmt.Fprintf(a.Out, "Wrote %s; open it in a browser and print it.\n", file)
		return err
	})
}

func (a *app) recoverCommand() *cli.Command {
	return &cli.Command{Name: "recover", Usage: "restore what a job wrote, without a service or database",
		Description: "For the day when everything else is gone: the program alone reads the target of a job, opens what is sealed, " +
			"and writes a folder. The recovery sheet of the job has the command.\n\n" +
			examples("spindle sync recover --from http://127.0.0.1:5722/attic-sealed/ --key MILL --to ./recovered --rehearse",
				"spindle sync recover --from /mnt/disk/attic --to ./recovered --prefix notes/"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "the target of the job: `PLACE` is the address of a store with bucket and prefix, or a folder"},
			&cli.StringFlag{Name: "key", Usage: "id of an access key at that store"},
			&cli.StringFlag{Name: "secret-from", Usage: "read its secret from this `FILE`, or - for standard input",
				DefaultText: "asked for"},
			&cli.StringFlag{Name: "region", Usage: "region in which requests are signed", DefaultText: "found out"},
			&cli.StringFlag{Name: "style", Usage: "path or host: where the bucket stands in addresses",
				DefaultText: "found out"},
			&cli.StringFlag{Name: "passphrase-from",
				Usage:       "read the passphrase from the first line of this `FILE`, or - for standard input",
				DefaultText: "asked for"},
			&cli.StringFlag{Name: "salt", Usage: "salt of the passphrase, from the sheet", DefaultText: "read at the target"},
			&cli.BoolFlag{Name: "names", Usage: "with --salt: names are sealed too"},
			&cli.StringFlag{Name: "to", Usage: "the `FOLDER` to write"},
			&cli.StringFlag{Name: "prefix", Usage: "only keys that begin with this `PREFIX`"},
			&cli.StringFlag{Name: "as-of", Usage: "the state at this `MOMENT`, if the store keeps versions"},
			&cli.StringFlag{Name: "links", Value: string(side.KeepLinks), Usage: "links that were kept: keep them, or skip"},
			&cli.BoolFlag{Name: "rehearse", Usage: "show what would be restored; nothing is written"},
			&cli.BoolFlag{Name: "list", Usage: "with --rehearse: list every object, not some of each kind"},
			&cli.IntFlag{Name: "parallel", Usage: "how many objects at a time", Value: 8}, yesFlag()},
		Action: a.syncRecover}
}

func (a *app) syncRecover(ctx context.Context, c *cli.Command) error {
	if _, err := args(c, 0, 0); err != nil {
		return err
	}
	if c.String("from") == "" || c.String("to") == "" {
		return wrongUsage("recover needs --from and --to").see(c)
	}
	links, err := side.ParseLinks(c.String("links"))
	if err != nil {
		return err
	}
	from, left, err := a.recoverFrom(ctx, c)
	if err != nil {
		return err
	}
	to := &side.Folder{Dir: filepath.Clean(c.String("to")), Links: links}
	if err := os.MkdirAll(to.Dir, 0o777); err != nil {
		return transfer.LocalError(to.Dir, err)
	}
	defer to.Close()
	j := &carry.Job{From: from, To: to, Parallel: c.Int("parallel"), Guard: syncing.Usual, Anyway: true,
		Options: syncing.Options{Mode: syncing.Accumulate, By: syncing.ByTime,
			Filter: syncing.Filter{Prefix: c.String("prefix")}}}
	if c.Bool("rehearse") {
		return a.syncRehearse(ctx, c, j)
	}
	t, err := j.Rehearse(ctx)
	if err != nil {
		return err
	}
	if t.Source == 0 {
		return fault.New(fault.NotFound, "nothing-there", "there is nothing to recover at that place").In("from").
			Do("look at bucket and prefix; %s ends with the prefix that the job wrote to", c.String("from"))
	}
	if t.Replace.Objects > 0 {
		if err := a.confirm(c, things(t.Replace.Objects, "file", "files")+" in "+to.Dir+" would be replaced.",
			"replace"); err != nil {
			return err
		}
	}
	r, err := a.syncRun(ctx, j)
	if err := a.onceEnded(j, r, err); err != nil {
		return err
	}
	if *left > 0 {
		a.note("%s could not be restored: each is named above.", things(int64(*left), "object", "objects"))
		return exitOnly(ExitFailed)
	}
	return nil
}

// recoverFrom opens the place that is recovered, and what is sealed there; left counts what lies
// there and does not come back.
func (a *app) recoverFrom(ctx context.Context, c *cli.Command) (from side.Side, left *int, err error) {
	left = new(int)
	place, then, err := a.recoverPlace(ctx, c)
	if err != nil {
		return nil, nil, err
	}
	mark, err := side.ReadMark(ctx, place)
	if err != nil && !c.IsSet("salt") {
		return nil, nil, err
	}
	if c.IsSet("salt") {
		salt, err := sealing.ParseSalt(c.String("salt"))
		if err != nil {
			return nil, nil, err
		}
		mark = &sealing.Mark{Salt: salt, Names: c.Bool("names")}
	}
	switch {
	case mark == nil && c.IsSet("passphrase-from"):
		return nil, nil, fault.New(fault.Conflict, "sealed-mark",
			"a passphrase was given, and %s is not there: what is sealed "+
				"would come back as it lies", sealing.MarkName).In("from").
			Do("give --salt, and --names when names are sealed too, from the recovery sheet; or leave the passphrase out")
	case mark == nil:
		return then, left, nil
	}
	words, err := a.passphrase(c.String("passphrase-from"), false)
	if err != nil {
		return nil, nil, err
	}
	var keys *sealing.Keys
	if mark.Recipient == "" {
		keys, err = sealing.Derive(words, mark.Salt)
	} else {
		keys, err = mark.Open(words)
	}
	if err != nil {
		return nil, nil, err
	}
	tell := a.leftOut()
	seen := map[string]bool{}
	return &side.Sealed{Of: then, Keys: keys, Names: mark.Names, Odd: func(key, what string) {
		if seen[key] = true; len(seen) > *left {
			*left = len(seen)
		}
		tell(key, what)
	}}, left, nil
}

// recoverPlace opens a folder or a store, as it is and as it was at the moment asked for.
func (a *app) recoverPlace(ctx context.Context, c *cli.Command) (now, then side.Side, err error) {
	from := c.String("from")
	if !strings.Contains(from, "://") {
		if c.IsSet("as-of") {
			return nil, nil, fault.New(fault.Invalid, "as-of-folder", "a folder keeps no earlier states").In("as-of").
				Do("leave the moment out")
		}
		f := &side.Folder{Dir: filepath.Clean(from)}
		return f, f, nil
	}
	u, err := url.Parse(from)
	if err != nil || u.Host == "" {
		return nil, nil, fault.New(fault.Invalid, "address", "%q is no address of a store", from).In("from").
			Do("give it as https://store.example/BUCKET/PREFIX/")
	}
	bucket, prefix, _ := strings.Cut(strings.TrimPrefix(u.Path, "/"), "/")
	if bucket == "" || !c.IsSet("key") {
		return nil, nil, fault.New(fault.Invalid, "address", "a store needs a bucket in the address, and --key").In("from").
			Do("give it as https://store.example/BUCKET/PREFIX/")
	}
	if prefix != "" && !strings.HasSuffix(prefix, "/") {
		prefix += "/"
	}
	secret, err := a.secretFrom(c.String("secret-from"))
	if err != nil {
		return nil, nil, err
	}
	conn, err := remote.Alone(ctx, endpoint.Endpoint{URL: u.Scheme + "://" + u.Host, KeyID: c.String("key"),
		Region: c.String("region"), Style: endpoint.Style(c.String("style")), Probe: bucket}, secret)
	if err != nil {
		return nil, nil, err
	}
	there := &side.There{Conn: conn, Bucket: bucket}
	now = side.Beneath(there, prefix)
	if !c.IsSet("as-of") {
		return now, now, nil
	}
	at, err := object.ParseMoment(c.String("as-of"), time.Now())
	if err != nil {
		return nil, nil, fault.From(err).In("as-of")
	}
	return now, side.Beneath(&side.ThereAsOf{There: there, At: at}, prefix), nil
}
