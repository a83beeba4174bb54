package cli

import (
	"context"
	"encoding/csv"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	costs "spindle/internal/core/usage"
)

func (a *app) usageCommand() *cli.Command {
	return &cli.Command{Name: "usage", Usage: "show what is stored, how it grows, what it costs, and when it " +
		"is full",
		Description: "Prices are those of tiers, for a month. Growth per day is the average of the last 30 days.\n\n" +
			examples("spindle usage", "spindle usage --by tier", "spindle usage --by account",
				"spindle usage --by day --from 2026-10-01 --csv > days.csv",
				"spindle usage --by who --bucket plates"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "by", Value: "bucket",
			Usage: "bucket, tier, state or day; for operators account; of requests: who, traffic (by bucket) or traffic-day"},
			&cli.StringFlag{Name: "bucket", Usage: "only of this `BUCKET`"},
			&cli.StringFlag{Name: "from", Usage: "since this `DAY`, such as 2026-10-01", DefaultText: "30 days ago"},
			&cli.StringFlag{Name: "to", Usage: "until this `DAY`", DefaultText: "today"},
			&cli.BoolFlag{Name: "csv", Usage: "as CSV (RFC 4180), with plain numbers"}},
		Action: a.usage}
}

// sheet is a table that is written for people or as CSV.
type sheet struct {
	columns []column
	rows    [][]string // for people
	plain   [][]string // for programs
	says    string
}

func (a *app) usage(ctx context.Context, c *cli.Command) error {
	if _, err := args(c, 0, 0); err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	q := url.Values{}
	for _, f := range []string{"from", "to", "bucket"} {
		q.Set(f, c.String(f))
	}
	m, err := p.money(ctx)
	if err != nil {
		return err
	}
	all, s, err := p.usageSheet(ctx, c.String("by"), q, m)
	if err != nil {
		return err
	}
	if c.Bool("csv") {
		return a.writeCSV(s)
	}
	return a.print(all, func() error {
		if len(s.rows) == 0 {
			a.note("Nothing was counted.")
			return nil
		}
		if err := a.table(s.columns, s.rows); err != nil {
			return err
		}
		a.note("%s", s.says)
		return nil
	})
}

// usageSheet asks for usage by something, and gives the answer with the sheet that shows it.
func (p *desk) usageSheet(ctx context.Context, by string, q url.Values, m costs.Money) (all any, s sheet, err error) {
	switch by {
	case "account":
		var r struct {
			Accounts []api.AccountUsage `json:"accounts"`
		}
		if err := p.call(ctx, http.MethodGet, "/api/v1/usage/accounts", q, nil, &r); err != nil {
			return nil, s, err
		}
		all, s = r, accountSheet(r.Accounts, m)
	case "bucket", "tier", "day", "state":
		q.Set("replicas", strconv.FormatBool(by == "state"))
		var r api.UsageReport
		if err := p.call(ctx, http.MethodGet, "/api/v1/usage", q, nil, &r); err != nil {
			return nil, s, err
		}
		all, s = r, map[string]func(*api.UsageReport, costs.Money) sheet{"bucket": bucketSheet, "tier": tierSheet,
			"day":   daySheet,
			"state": stateSheet}[by](&r, m)
	case "who", "traffic", "traffic-day":
		q.Set("by", map[string]string{"who": "who", "traffic": "bucket", "traffic-day": "day"}[by])
		var t struct {
			Traffic []api.TrafficInfo `json:"traffic"`
		}
		if err := p.call(ctx, http.MethodGet, "/api/v1/usage/traffic", q, nil, &t); err != nil {
			return nil, s, err
		}
		all, s = t, trafficSheet(q.Get("by"), t.Traffic)
	default:
		return nil, s, wrongUsage("--by is bucket, tier, state, day, account, who, traffic or traffic-day")
	}
	return all, s, nil
}

func (a *app) writeCSV(s sheet) error {
	w := csv.NewWriter(a.Out)
	w.UseCRLF = true // RFC 4180
	heads := make([]string, len(s.columns))
	for i, c := range s.columns {
		heads[i] = strings.ToLower(c.head)
	}
	if err := w.WriteAll(append([][]string{heads}, s.plain...)); err != nil {
		return err
	}
	return w.Error()
}

// money gives how the service tells sums.
func (p *desk) money(ctx context.Context) (costs.Money, error) {
	info, err := p.service(ctx)
	if err != nil {
		return costs.Money{}, err
	}
	m := costs.Money{Currency: info.Currency, Digits: info.Digits}
	return m, m.Check()
}

func plain(n int64) string { return strconv.FormatInt(n, 10) }

// more writes bytes that came, or went.
func more(n int64) string {
	if n < 0 {
		return "-" + size(-n)
	}
	return "+" + size(n)
}

func dayOf(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.Format(time.DateOnly)
}

func bucketSheet(r *api.UsageReport, m costs.Money) sheet {
	s := sheet{columns: []column{{"BUCKET", false}, {"OBJECTS", true}, {"CURRENT", true}, {"PREVIOUS", true},
		{"UNFINISHED", true}, {"COST A MONTH", true},
		{"ADDED", true}, {"A DAY", true}, {"QUOTA", true}, {"FULL ON", false}}}
	for _, b := range r.Buckets {
		quota, bytes := "none", ""
		if b.Quota != nil {
			quota, bytes = size(*b.Quota), plain(*b.Quota)
		}
		s.rows = append(s.rows, []string{b.Bucket, count(b.Now.Objects), size(b.Now.Bytes), size(b.Now.PreviousBytes),
			size(b.Unfinished),
			m.Say(b.Cost), more(b.Added), more(int64(b.PerDay)), quota, dayOf(b.FullOn)})
		s.plain = append(s.plain, []string{b.Bucket, plain(b.Now.Objects), plain(b.Now.Bytes), plain(b.Now.PreviousBytes),
			plain(b.Unfinished),
			strconv.FormatFloat(b.Cost, 'f', 6, 64), plain(b.Added), plain(int64(b.PerDay)), bytes, dayOf(b.FullOn)})
	}
	t := r.Total
	s.says = fmt.Sprintf("%s: %s current, %s previous, %s unfinished; %s a month; %s since %s.",
		things(t.Now.Objects, "object", "objects"),
		size(t.Now.Bytes), size(t.Now.PreviousBytes), size(t.Unfinished), m.Say(t.Cost), more(t.Added), r.From)
	if d := r.Disk; d != nil {
		s.says += fmt.Sprintf("\nThe disk has %s free of %s", size(d.Free), size(d.Total))
		if d.FullOn != nil {
			s.says += ", and is full on " + dayOf(d.FullOn) + " if it goes on so"
		}
		s.says += "."
	}
	return s
}

func accountSheet(list []api.AccountUsage, m costs.Money) sheet {
	s := sheet{columns: []column{{"ACCOUNT", false}, {"BUCKETS", true}, {"OBJECTS", true}, {"CURRENT", true},
		{"PREVIOUS", true},
		{"UNFINISHED", true}, {"COST A MONTH", true}, {"ADDED", true}, {"A DAY", true}}, says: "Accounts that have buckets."}
	for _, u := range list {
		s.rows = append(s.rows, []string{u.Account, count(int64(u.Buckets)), count(u.Now.Objects), size(u.Now.Bytes),
			size(u.Now.PreviousBytes),
			size(u.Unfinished), m.Say(u.Cost), more(u.Added), more(int64(u.PerDay))})
		s.plain = append(s.plain, []string{u.Account, plain(int64(u.Buckets)), plain(u.Now.Objects), plain(u.Now.Bytes),
			plain(u.Now.PreviousBytes), plain(u.Unfinished), strconv.FormatFloat(u.Cost, 'f', 6, 64), plain(u.Added),
			plain(int64(u.PerDay))})
	}
	return s
}

// stateSheet says in which states of storage bytes are.
func stateSheet(r *api.UsageReport, _ costs.Money) sheet {
	s := sheet{columns: []column{{"BUCKET", false}, {"CURRENT", true}, {"OF THEM REPLICAS", true}, {"PREVIOUS", true},
		{"UNFINISHED", true}},
		says: "Replicas are what came as copies of another bucket."}
	for _, b := range append(slices.Clone(r.Buckets), r.Total) {
		copies := api.Quantity{}
		if b.Replicas != nil {
			copies = *b.Replicas
		}
		s.rows = append(s.rows, []string{cmpOr(b.Bucket, "all"), size(b.Now.Bytes), size(copies.Bytes),
			size(b.Now.PreviousBytes), size(b.Unfinished)})
		s.plain = append(s.plain, []string{b.Bucket, plain(b.Now.Bytes), plain(copies.Bytes), plain(b.Now.PreviousBytes),
			plain(b.Unfinished)})
	}
	return s
}

func tierSheet(r *api.UsageReport, m costs.Money) sheet {
	s := sheet{columns: []column{{"TIER", false}, {"SIZE", true}, {"COST A MONTH", true}},
		says: "Current and previous versions of all buckets."}
	for _, t := range r.Total.Tiers {
		s.rows = append(s.rows, []string{t.Tier, size(t.Bytes), m.Say(t.Cost)})
		s.plain = append(s.plain, []string{t.Tier, plain(t.Bytes), strconv.FormatFloat(t.Cost, 'f', 6, 64)})
	}
	return s
}

func daySheet(r *api.UsageReport, _ costs.Money) sheet {
	s := sheet{columns: []column{{"DAY", false}, {"OBJECTS", true}, {"CURRENT", true}, {"PREVIOUS", true}},
		says: "At the end of each day on which something changed; in UTC."}
	for _, p := range r.Days {
		s.rows = append(s.rows, []string{p.Day, count(p.Objects), size(p.Current), size(p.Previous)})
		s.plain = append(s.plain, []string{p.Day, plain(p.Objects), plain(p.Current), plain(p.Previous)})
	}
	return s
}

func trafficSheet(by string, list []api.TrafficInfo) sheet {
	s := sheet{columns: []column{{map[string]string{"who": "WHO", "bucket": "BUCKET", "day": "DAY"}[by], false},
		{"READS", true}, {"WRITES", true},
		{"LISTS", true}, {"OTHERS", true}, {"FAILED", true}, {"IN", true}, {"OUT", true}},
		says: "Requests of the wire; those of the desk are not counted."}
	for _, t := range list {
		s.rows = append(s.rows, []string{shown(t.Of), count(t.Reads), count(t.Writes), count(t.Lists), count(t.Others),
			count(t.Failed), size(t.In), size(t.Out)})
		s.plain = append(s.plain, []string{t.Of, plain(t.Reads), plain(t.Writes), plain(t.Lists), plain(t.Others),
			plain(t.Failed), plain(t.In), plain(t.Out)})
	}
	return s
}
