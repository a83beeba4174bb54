package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
)

func (a *app) objectRemove(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 1, -1)
	if err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	if id := c.String("version"); id != "" {
		if len(in) > 1 || c.Bool("with-versions") {
			return wrongUsage("--version removes a version of one key")
		}
		return a.removeVersion(ctx, c, p, in[0], id)
	}
	if c.Bool("with-versions") && (len(in) > 1 || !strings.HasSuffix(in[0], "/")) {
		return wrongUsage("--with-versions is for a prefix; a version of a key is removed with --version ID")
	}
	if len(in) == 1 && strings.HasSuffix(in[0], "/") {
		bucket, prefix, err := split(in[0])
		if err != nil {
			return err
		}
		if prefix == "" {
			return wrongUsage("that is the whole bucket; say spindle bucket empty %s", bucket)
		}
		return a.removeAll(ctx, c, p, bucket, &prefix, "beneath "+in[0], c.Bool("with-versions"), c.Bool("rehearse"))
	}
	return a.removeKeys(ctx, c, p, in)
}

// keysOf are keys of buckets, in the order in which the buckets were named.
type keysOf struct {
	buckets []string
	keys    map[string][]string
}

func keysOfAddresses(in []string) (k keysOf, err error) {
	k.keys = map[string][]string{}
	for _, s := range in {
		bucket, key, err := split(s)
		if err != nil {
			return k, err
		}
		if key == "" || strings.HasSuffix(key, "/") && len(in) > 1 {
			return k, wrongUsage("%q is no object; remove prefixes one at a time", s)
		}
		if k.keys[bucket] == nil {
			k.buckets = append(k.buckets, bucket)
		}
		k.keys[bucket] = append(k.keys[bucket], key)
	}
	return k, nil
}

// keysAtOnce is how many keys a call takes.
const keysAtOnce = 1000

// remove removes the keys, or says what that would remove.
func (k keysOf) remove(ctx context.Context, p *desk, rehearse bool) (total api.Quantity, err error) {
	kept := true
	for _, bucket := range k.buckets {
		for keys := range slices.Chunk(k.keys[bucket], keysAtOnce) {
			q, err := p.remove(ctx, bucket, api.RemoveIn{Keys: keys, Rehearse: rehearse})
			if err != nil {
				return total, err
			}
			total.Objects, total.Bytes = total.Objects+q.Objects, total.Bytes+q.Bytes
			if total.Versioning = q.Versioning; q.Versioning != "on" {
				kept = false
			}
		}
	}
	if !kept && len(k.buckets) > 1 {
		total.Versioning = "off in some of these buckets"
	}
	return total, nil
}

// removeKeys removes objects by their names.
func (a *app) removeKeys(ctx context.Context, c *cli.Command, p *desk, in []string) error {
	k, err := keysOfAddresses(in)
	if err != nil {
		return err
	}
	total, err := k.remove(ctx, p, true)
	if err != nil {
		return err
	}
	if c.Bool("rehearse") {
		return a.print(total, func() error {
			_, err := fmt.Fprintf(a.Out, "Would remove %s. %s\n", wouldGo(total), consequence(total, false))
			return err
		})
	}
	if total.Objects == 0 {
		if len(in) == 1 {
			bucket, key, _ := split(in[0])
			_, err := p.show(ctx, bucket, key, "", "")
			return a.orBeneath(ctx, p, bucket, key, err)
		}
		return fault.New(fault.NotFound, "key-missing", "none of these objects is there").In("key")
	}
	if err := a.confirm(c, fmt.Sprintf("This removes %s. %s", wouldGo(total), consequence(total, false)),
		fmt.Sprint(total.Objects)); err != nil {
		return err
	}
	if _, err := k.remove(ctx, p, false); err != nil {
		return err
	}
	return a.print(total, func() error {
		_, err := fmt.Fprintf(a.Out, "Removed %s.\n", wouldGo(total))
		return err
	})
}
