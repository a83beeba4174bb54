package jobs

import (
	"context"
	"fmt"
	"time"

	"spindle/internal/api"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/sealing"
	"spindle/internal/core/syncing"
	"spindle/internal/desk/middle"
	"spindle/internal/side"
)

// sealSync has a job seal what leaves, as is asked. What is at the target already must be
// sealed with the same passphrase. The errors have the codes passphrase-kept,
// passphrase-missing, passphrase-wrong and sealed-otherwise.
func (d *Desk) sealSync(ctx context.Context, j *syncing.Job, c *api.SyncChange) error {
	switch {
	case c.Sealing == nil && c.Passphrase == nil:
		return nil
	case c.Sealing == nil && j.Seals == nil:
		return fault.New(fault.Invalid, "sealing", "there is a passphrase and nothing is sealed").In("sealing").
			Do("say content or names, or leave the passphrase out")
	case c.Sealing != nil && *c.Sealing == "none":
		j.Seals, j.Secret = nil, nil
		return nil
	}
	names := j.Seals != nil && j.Seals.Names
	if c.Sealing != nil {
		names = *c.Sealing == "names"
	}
	if c.Passphrase == nil {
		if j.Seals != nil && j.Seals.Names == names {
			return nil
		}
		return fault.New(fault.Invalid, "passphrase-missing", "what is to be sealed needs a passphrase").In("passphrase").
			Do("give one of several words, and keep it elsewhere")
	}
	if !c.Kept {
		return fault.New(fault.Invalid, "passphrase-kept",
			"losing the passphrase loses all that is sealed, and nobody can bring it back").
			In("passphraseKept").Do("write it down where the service is not, and confirm that you did")
	}
	mark, keys, err := d.sealedPlace(ctx, j, *c.Passphrase, names)
	if err != nil {
		return err
	}
	j.Seals = mark
	j.Secret, err = d.Gate.Keys.SealSecret(catalog.SyncSecret(mark.Recipient), string(keys.Master()))
	return err
}

// changesSealing reports whether a change says anything of sealing.
func changesSealing(c *api.SyncChange) bool { return c.Sealing != nil || c.Passphrase != nil }

// sealedAs gives how a job seals after a change, worked out before anything is changed: it
// takes seconds, and looks at the target.
func (d *Desk) sealedAs(ctx context.Context, name string, c *api.SyncChange) (*syncing.Job, error) {
	j, err := d.mySync(ctx, name)
	if err != nil || !changesSealing(c) {
		return j, err
	}
	if err := applySync(c, j, d.Store.Catalog.Now()); err != nil {
		return nil, err
	}
	if err := d.maySync(ctx, j); err != nil {
		return nil, err
	}
	return j, d.sealSync(ctx, j, c)
}

// sealedPlace gives how a job's target is sealed: as it is already, or anew.
func (d *Desk) sealedPlace(ctx context.Context, j *syncing.Job, passphrase string, names bool) (*sealing.Mark,
	*sealing.Keys, error) {
	sides := d.sides()
	place, _, err := sides.Open(ctx, j, j.To, nil, nil)
	if err != nil {
		return nil, nil, fault.From(err).In("to")
	}
	if f, ok := place.(*side.Folder); ok {
		defer f.Close()
	}
	mark, err := side.ReadMark(ctx, place)
	if err != nil {
		return nil, nil, err
	}
	if mark == nil {
		return sealing.New(passphrase, names)
	}
	if mark.Names != names {
		return nil, nil, fault.New(fault.Conflict, "sealed-otherwise", "what is at the target has its %s",
			map[bool]string{true: "names sealed too", false: "contents sealed alone"}[mark.Names]).In("sealing").
			Do("seal it the same way, or choose another prefix")
	}
	keys, err := mark.Open(passphrase)
	return mark, keys, err
}

// restoreNames is how many names are tried for a job that restores.
const restoreNames = 100

func (d *Desk) restoreSync(ctx context.Context, in *struct {
	SyncPath
	Body api.SyncRestoreAsk
}) (*syncOut, error) {
	j, err := d.mySync(ctx, in.Sync)
	if err != nil {
		return nil, err
	}
	if j.Restores != "" {
		return nil, fault.New(fault.Invalid, "sync-restores", "%s is a restore itself", j.Name).In("sync").
			Do("restore %s", j.Restores)
	}
	by := middle.Author(ctx)
	by.At = d.Store.Catalog.Now()
	var asOf *time.Time
	if in.Body.AsOf != "" {
		at, err := object.ParseMoment(in.Body.AsOf, by.At)
		if err != nil {
			return nil, fault.From(err).In("asOf")
		}
		asOf = &at
	}
	back := j.Back(in.Body.Prefix, asOf)
	if in.Body.To != "" {
		if back.To, err = syncing.ParsePlace(in.Body.To); err != nil {
			return nil, fault.From(err).In("to")
		}
	}
	for n := 1; n <= restoreNames; n++ {
		if back.Name = fmt.Sprintf("%.50s-restore-%d", j.Name, n); n == 1 {
			back.Name = fmt.Sprintf("%.50s-restore", j.Name)
		}
		if err = back.Check(); err == nil {
			err = d.maySync(ctx, back)
		}
		if err == nil {
			err = d.Store.Catalog.AddSync(ctx, back, by)
		}
		if !fault.HasCode(err, "sync-exists") {
			break
		}
	}
	if err != nil {
		return nil, err
	}
	return d.oneSync(ctx, back.Name)
}

func (d *Desk) syncSheet(ctx context.Context, in *struct {
	SyncPath
	middle.HostIn
}) (*struct {
	Body struct {
		Text string `json:"text"`
	}
}, error) {
	j, err := d.mySync(ctx, in.Sync)
	if err != nil {
		return nil, err
	}
	var way syncing.Way
	switch {
	case j.To.Folder != "":
	case j.To.Endpoint != "":
		e, err := d.Store.Catalog.Endpoint(ctx, j.Account, j.To.Endpoint)
		if err != nil {
			return nil, err
		}
		way = syncing.Way{URL: e.URL, Key: e.KeyID, Region: e.Region, Style: string(e.Style)}
	default:
		way = syncing.Way{URL: d.WireInfo(in.Host).URL, Key: "KEY", Region: d.Store.Region}
	}
	out := &struct {
		Body struct {
			Text string `json:"text"`
		}
	}{}
	out.Body.Text = j.Sheet(way, d.Store.Catalog.Now())
	return out, nil
}

// triedSync rehearses a job that is not saved, for a short while. What is to be sealed is not
// compared: its passphrase is not known before it is saved.
func (d *Desk) triedSync(ctx context.Context, j *syncing.Job, sealed bool) (*struct{ Body api.SyncRehearsal }, error) {
	if !sealed {
		out, err := d.rehearsed(ctx, j, tryFor)
		return &struct{ Body api.SyncRehearsal }{out}, err
	}
	return &struct{ Body api.SyncRehearsal }{api.SyncRehearsal{Kinds: []api.RehearsedKind{}, Says: j.Sentence(),
		Undo: d.undo(ctx, j)}}, nil
}

// undo says whether what a job replaces or removes at its target can be brought back there.
func (d *Desk) undo(ctx context.Context, j *syncing.Job) string {
	keeps := object.Off
	switch {
	case j.To.Folder != "":
	case j.To.Endpoint != "":
		conn, err := d.Endpoints.OfAccount(ctx, j.Account, j.To.Endpoint)
		if err != nil {
			return "unknown"
		}
		l, err := side.LookAt(ctx, conn, j.To.Bucket)
		if err != nil {
			return "unknown"
		}
		keeps = l.Versioning
	default:
		name, err := object.ParseBucketName(j.To.Bucket)
		if err != nil {
			return "unknown"
		}
		f, err := d.Store.Facts(ctx, name)
		if err != nil {
			return "unknown"
		}
		keeps = f.Versioning
	}
	if keeps == object.On {
		return "can"
	}
	return "cannot"
}
