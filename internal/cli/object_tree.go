package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
)

// limb of a tree of prefixes.
type limb struct {
	name           string
	depth          int
	objects, bytes int64
}

func (a *app) objectTree(ctx context.Context, c *cli.Command) error {
	p, bucket, prefix, err := a.oneAddress(c)
	if err != nil {
		return err
	}
	depth := c.Int("depth")
	if depth < 1 || depth > 50 {
		return wrongUsage("--depth is 1 to 50")
	}
	asOf, err := a.asOf(c)
	if err != nil {
		return err
	}
	limbs, err := p.limbs(ctx, bucket, prefix, asOf, depth)
	if err != nil {
		return err
	}
	if limbs[0].objects == 0 {
		return a.nothingAsOf(ctx, p, bucket, prefix, asOf)
	}
	if !a.json {
		a.past(asOf)
	}
	type line struct {
		Prefix  string `json:"prefix"`
		Depth   int    `json:"depth"`
		Objects int64  `json:"objects"`
		Bytes   int64  `json:"bytes"`
	}
	var rows [][]string
	for _, l := range limbs {
		if a.json {
			if err := a.print(line{l.name, l.depth, l.objects, l.bytes}, nil); err != nil {
				return err
			}
			continue
		}
		rows = append(rows, []string{count(l.objects), size(l.bytes), strings.Repeat("    ", l.depth) + shown(l.name)})
	}
	if a.json {
		return nil
	}
	return a.table([]column{{"OBJECTS", true}, {"SIZE", true}, {"PREFIX", false}}, rows)
}

// limbs gives the prefixes beneath one, down to a depth, with their totals, the whole first.
func (p *desk) limbs(ctx context.Context, bucket, prefix, asOf string, depth int) ([]*limb, error) {
	// Keys come in order, so the limbs that are open form a path.
	top := &limb{name: bucket + "/" + prefix}
	limbs := []*limb{top}
	path := []*limb{top}
	err := p.each(ctx, bucket, prefix, asOf, func(o api.ListedObject) (bool, error) {
		parts := strings.SplitAfter(strings.TrimPrefix(o.Key, prefix), "/")
		parts = parts[:len(parts)-1]
		parts = parts[:min(len(parts), depth)]
		for i, part := range parts {
			if i+1 < len(path) && path[i+1].name == part {
				continue
			}
			path = path[:i+1]
			l := &limb{name: part, depth: i + 1}
			path, limbs = append(path, l), append(limbs, l)
			if len(limbs) > 20_000 {
				return false, fault.New(fault.TooLarge, "tree-too-large", "the tree has more than 20,000 prefixes at this depth").
					In("depth").Do("choose a smaller --depth or a longer prefix")
			}
		}
		path = path[:len(parts)+1]
		for _, l := range path {
			l.objects++
			l.bytes += o.Size
		}
		return true, nil
	})
	return limbs, err
}
