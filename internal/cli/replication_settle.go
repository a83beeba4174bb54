package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
)

func (a *app) replicationRetry(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 1, 2)
	if err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	body := api.RetryAsk{Accept: c.Bool("accept-target")}
	if len(in) == 2 {
		body.Key = in[1]
	}
	path := replicationsPath + url.PathEscape(in[0]) + "/retry"
	if c.Bool("overwrite") && c.Bool("accept") {
		return wrongUsage("--overwrite and --accept exclude each other")
	}
	if c.Bool("overwrite") || c.Bool("accept") {
		if stop, err := a.settleReplicas(ctx, c, p, in[0], path, &body); stop || err != nil {
			return err
		}
	}
	var out api.RetryInfo
	if err := p.call(ctx, http.MethodPost, path, nil, body, &out); err != nil {
		return err
	}
	return a.print(out, func() error {
		did := "tried now"
		if body.Settle == "accept" {
			did = "accepted as they are at the target"
		}
		_, err := fmt.Fprintf(a.Out, "%s %s.\n", things(out.Retried, "object is", "objects are"), did)
		return err
	})
}

// settleReplicas says about which objects would be decided, asks, and adds the decision to
// what is asked of the desk. stop says that there is nothing to decide.
func (a *app) settleReplicas(ctx context.Context, c *cli.Command, p *desk, rule, path string,
	body *api.RetryAsk) (stop bool, err error) {
	body.Settle = "accept"
	if c.Bool("overwrite") {
		body.Settle = "overwrite"
	}
	body.Rehearse = true
	var would api.RetryInfo
	if err := p.call(ctx, http.MethodPost, path, nil, body, &would); err != nil {
		return false, err
	}
	body.Rehearse = false
	if would.Retried == 0 {
		return true, a.print(would, func() error {
			_, err := fmt.Fprintln(a.Out, "Nothing newer at a target waits for a decision.")
			return err
		})
	}
	keys := shown(strings.Join(would.Keys, ", "))
	if int64(len(would.Keys)) < would.Retried {
		keys += ", ..."
	}
	does := "It keeps what is at the target in place of %s (%s): %s."
	if c.Bool("overwrite") {
		does = "It replaces what is at the target by %s (%s): %s. Where the target keeps versions, the replaced ones stay."
	}
	return false, a.confirm(c, fmt.Sprintf(does, things(would.Retried, "object", "objects"), size(would.Bytes), keys),
		rule)
}

// replicationObjects lists objects of a rule by how they stand.
func (a *app) replicationObjects(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	limit := c.Int("limit")
	q := url.Values{"limit": {"1000"}}
	if s := c.String("state"); s != "" {
		q.Set("state", s)
	}
	list := []api.ReplicaObject{}
	_, err = pages(ctx, p, replicationsPath+url.PathEscape(name)+"/objects", "objects", false, q,
		func(x api.ReplicaObject) (bool, error) {
			if limit > 0 && len(list) == limit {
				return false, nil
			}
			list = append(list, x)
			return true, nil
		})
	if err != nil {
		return err
	}
	return a.print(list, func() error {
		var rows [][]string
		for _, x := range list {
			why := shown(x.Why)
			switch {
			case x.Removed:
				why = strings.TrimPrefix(why+"; a removal", "; ")
			case x.Sent > 0:
				why = strings.TrimPrefix(fmt.Sprintf("%s; %s sent", why, size(x.Sent)), "; ")
			}
			rows = append(rows, []string{x.State, shown(x.Key), size(x.Bytes), shown(x.Target), why})
		}
		if len(rows) == 0 {
			_, err := fmt.Fprintln(a.Out, "No object stands so.")
			return err
		}
		return a.table([]column{{"STATE", false}, {"KEY", false}, {"BYTES", true}, {"TARGET", false}, {"WHY", false}}, rows)
	})
}
