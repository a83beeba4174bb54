package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
)

func (p *desk) copy(ctx context.Context, in api.CopyAsk, bucket string) (o api.ObjectInfo, err error) {
	return o, p.call(ctx, http.MethodPost, bucketCall(bucket, "/copy"), nil, in, &o)
}

func (a *app) objectCopy(ctx context.Context, c *cli.Command, move bool) error {
	in, err := args(c, 2, 2)
	if err != nil {
		return err
	}
	fromBucket, fromKey, err := split(in[0])
	if err != nil {
		return err
	}
	bucket, key, err := split(in[1])
	if err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	did, ifAbsent := "Copied", c.Bool("if-absent")
	if move {
		did, ifAbsent = "Renamed", !c.Bool("yes")
	}
	if fromKey == "" || strings.HasSuffix(fromKey, "/") {
		if key != "" && !strings.HasSuffix(key, "/") {
			return wrongUsage("the source is a prefix; end the target with a slash too")
		}
		if move {
			return a.renameAll(ctx, c, p, fromBucket, fromKey, bucket, key)
		}
		return a.copyAll(ctx, p, fromBucket, fromKey, bucket, key, c.String("tier"), ifAbsent)
	}
	if c.Bool("rehearse") {
		return wrongUsage("--rehearse is for a prefix: a single object is asked about")
	}
	if key == "" || strings.HasSuffix(key, "/") {
		key += fromKey[strings.LastIndex(fromKey, "/")+1:]
	}
	o, err := a.copyOne(ctx, c, p, api.CopyAsk{FromBucket: fromBucket, FromKey: fromKey, FromVersion: c.String("version"),
		Key: key, Move: move, IfAbsent: ifAbsent, Tier: c.String("tier")}, bucket)
	if err != nil {
		return a.orBeneath(ctx, p, fromBucket, fromKey, err)
	}
	return a.print(o, func() error {
		how := "no bytes were moved"
		if in := c.String("tier"); in != "" {
			how = "into the tier " + in
		}
		_, err := fmt.Fprintf(a.Out, "%s %s to %s, %s; %s.\n", did, shown(in[0]), shown(bucket+"/"+o.Key),
			size(o.Size), how)
		return err
	})
}

// copyOne copies or renames an object. A rename onto one that is there asks first.
func (a *app) copyOne(ctx context.Context, c *cli.Command, p *desk, in api.CopyAsk, bucket string) (o api.ObjectInfo,
	err error) {
	o, err = p.copy(ctx, in, bucket)
	if in.Move && a.Asks && fault.HasCode(err, "exists") {
		b, berr := p.bucket(ctx, bucket)
		if berr != nil {
			return o, berr
		}
		if err := a.confirm(c, fmt.Sprintf("%s/%s is there already. %s", bucket, shown(in.Key), replaced(b.Versioning)),
			"replace"); err != nil {
			return o, err
		}
		in.FromVersion, in.Tier, in.IfAbsent = "", "", false
		o, err = p.copy(ctx, in, bucket)
	}
	if fault.HasCode(err, "exists") {
		f := fault.From(err)
		f.Message = fmt.Sprintf("%s/%s is there already", bucket, in.Key)
		f.Remedy = "choose another key, or remove that object first"
		if in.Move {
			f.Remedy = "choose another key, or say --yes to replace it"
		}
	}
	return o, err
}

// copyAll copies all beneath a prefix, one by one: safe to stop and to say again.
func (a *app) copyAll(ctx context.Context, p *desk, fromBucket, from, bucket, to, tier string, ifAbsent bool) error {
	const did = "Copied"
	if fromBucket == bucket && strings.HasPrefix(to, from) {
		return wrongUsage("the target lies beneath the source")
	}
	q, err := p.remove(ctx, fromBucket, api.RemoveIn{Prefix: &from, Rehearse: true}) // a rehearsal counts
	if err != nil {
		return err
	}
	if q.Objects == 0 {
		return a.nothing(ctx, p, fromBucket, from)
	}
	bar := a.bar(strings.ToLower(did), q.Objects)
	var done api.Quantity
	started := time.Now()
	err = p.each(ctx, fromBucket, from, "", func(o api.ListedObject) (bool, error) {
		if o.Created.After(started) {
			return true, nil // it came meanwhile, or is a copy
		}
		if _, err := p.copy(ctx, api.CopyAsk{FromBucket: fromBucket, FromKey: o.Key,
			Key: to + strings.TrimPrefix(o.Key, from), Tier: tier, IfAbsent: ifAbsent}, bucket); err != nil {
			return false, err
		}
		done.Objects++
		done.Bytes += o.Size
		bar.at(done.Objects)
		return true, nil
	})
	bar.stop()
	if err != nil {
		a.note("%s %s; repeat the command to resume.", did, wouldGo(done))
		return err
	}
	return a.print(done, func() error {
		_, err := fmt.Fprintf(a.Out, "%s %s from %s/%s to %s/%s; no bytes were moved.\n", did, wouldGo(done), fromBucket,
			shown(from), bucket, shown(to))
		return err
	})
}
