package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

const replicationsPath = "/api/v1/replications/"

func (a *app) replicationCommand() *cli.Command {
	scope := []cli.Flag{
		&cli.StringSliceFlag{Name: "to",
			Usage: "target `ADDRESS`: BUCKET/PREFIX, @ENDPOINT/BUCKET/PREFIX or @REGION/BUCKET/PREFIX; may be repeated"},
		&cli.StringSliceFlag{Name: "tag", Usage: "only objects with this tag, `NAME=VALUE`; may be repeated"},
		whereFlag("objects"),
		&cli.StringFlag{Name: "tier", Usage: "tier of the copies here, or storage class at an endpoint"},
		&cli.StringFlag{Name: "sealing", Usage: "on or off: encrypt copies here at rest, whatever their bucket says"},
		&cli.StringFlag{Name: "delete-markers", Usage: "on or off: replicate delete markers", DefaultText: "on"},
		&cli.StringFlag{Name: "removals", Usage: "on or off: replicate removals that leave no marker", DefaultText: "off"},
		&cli.StringFlag{Name: "onward", Usage: "on or off: replicate replicas onward", DefaultText: "off"},
		&cli.IntFlag{Name: "priority", Usage: "where two rules copy to one place, the higher one wins"},
		&cli.StringFlag{Name: "lag-target", Usage: "lag target, as `PERCENT/TIME` such as 99/5m; none for no target"},
		&cli.BoolFlag{Name: "mend", Usage: "enable versioning and create buckets where missing"},
	}
	change := append([]cli.Flag{&cli.StringFlag{Name: "prefix", Usage: "only objects beneath this `PREFIX`"},
		&cli.StringFlag{Name: "state", Usage: "on or off"},
		&cli.IntFlag{Name: "if-revision", Usage: "only if it is still at this `REVISION`"}}, scope...)
	return &cli.Command{Name: "replication", Usage: "rules that keep objects copied to other places",
		Commands: []*cli.Command{
			{Name: "add", Usage: "add a rule", ArgsUsage: "NAME",
				Description: "Always say what happens to existing objects: --existing leave or backfill.\n\n" +
					examples("spindle replication add plates-to-annex --from plates --to @lowland-annex/plates --existing backfill --mend",
						"spindle replication add notes-to-mill --from field-notes --to @old-mill/notes --existing leave --lag-target 99/5m"),
				Flags: append([]cli.Flag{&cli.StringFlag{Name: "from", Usage: "the source, `BUCKET/PREFIX`"},
					&cli.StringFlag{Name: "existing", Usage: "leave or backfill existing objects"}, yesFlag(),
					&cli.BoolFlag{Name: "review", Usage: "show what it would do and what it lacks; nothing is changed"}}, scope...),
				Action: a.replicationAdd},
			a.replicationListCommand(),
			{Name: "show", Usage: "show a rule and its state", ArgsUsage: "NAME",
				Description: examples("spindle replication show plates-to-annex", "spindle replication show notes-to-mill --json"),
				Action:      showing(a, replicationsPath, printed(a, a.showReplication))},
			a.replicationStatusCommand(),
			a.replicationBackfillCommand(),
			a.replicationVerifyCommand(),
			a.replicationObjectsCommand(),
			a.replicationRetryCommand(),
			{Name: "change", Usage: "change a rule", ArgsUsage: "NAME",
				Description: examples("spindle replication change notes-to-mill --state off",
					"spindle replication change plates-to-annex --to @lowland-annex/plates --to attic/plates/"),
				Flags: change, Action: changing(a, replicationsPath,
					func(c *cli.Command, in *api.ReplicationUpdate) error { return ruleTargets(c, &in.ReplicationChange) },
					printed(a, a.showReplication))},
			a.replicationRemoveCommand(),
		}}
}

func (a *app) replicationListCommand() *cli.Command {
	return &cli.Command{Name: "list", Usage: "list rules and their state",
		Description: examples("spindle replication list", "spindle replication list --json"),
		Action: listing[api.ReplicationInfo]{path: "/api/v1/replications", field: "replications",
			none: "There is no rule yet: spindle replication add NAME --from BUCKET --to ADDRESS.", row: replicationRow,
			columns: []column{{"RULE", false}, {"STATE", false}, {"FROM", false}, {"TO", false}, {"WAITING", true},
				{"BYTES", true}, {"OLDEST", true}, {"LAG P50", true}, {"P99", true}}}.action(a)}
}

func (a *app) replicationStatusCommand() *cli.Command {
	return &cli.Command{Name: "status", Usage: "explain the state of a rule and why objects wait, or the state of an object",
		ArgsUsage: "RULE | BUCKET/KEY",
		Description: examples("spindle replication status notes-to-mill",
			"spindle replication status plates/2019/moorland/FH-004217-recto.tif"),
		Flags:  []cli.Flag{&cli.IntFlag{Name: "limit", Value: 20, Usage: "how many objects to list"}},
		Action: a.replicationStatus}
}

func (a *app) replicationBackfillCommand() *cli.Command {
	return &cli.Command{Name: "backfill", Usage: "copy objects that are older than a rule", ArgsUsage: "NAME",
		Description: examples("spindle replication backfill plates-to-annex",
			"spindle replication backfill notes-to-mill --yes"),
		Flags: []cli.Flag{yesFlag()}, Action: a.replicationBackfill}
}

func (a *app) replicationVerifyCommand() *cli.Command {
	return &cli.Command{Name: "verify", Usage: "compare both sides, object by object", ArgsUsage: "NAME",
		Description: "Compares keys, sizes, and the content and metadata that the target confirmed when each object was\n" +
			"copied. --deep also reads every object back at the target and compares the digest of its bytes. Objects\n" +
			"that still wait to be copied are counted separately. Objects that exist only at the target are listed,\n" +
			"never removed.\n\n" + examples("spindle replication verify plates-to-annex",
			"spindle replication verify notes-to-mill --deep --repair"),
		Flags: []cli.Flag{&cli.BoolFlag{Name: "deep",
			Usage: "read each object back at the target: bytes, version, metadata"},
			&cli.BoolFlag{Name: "repair", Usage: "copy missing, damaged or different objects again"},
			&cli.StringFlag{Name: "most", Usage: "with --deep: stop after reading this `SIZE`, and tell where to " +
				"continue"},
			&cli.StringFlag{Name: "after", Usage: "only objects whose keys sort after this `KEY`"},
			&cli.BoolFlag{Name: "check", Usage: "exit with code 5 if something differs"}},
		Action: a.replicationVerify}
}

func (a *app) replicationObjectsCommand() *cli.Command {
	return &cli.Command{Name: "objects", Usage: "list objects of a rule with their state", ArgsUsage: "NAME",
		Description: examples("spindle replication objects notes-to-mill --state failed",
			"spindle replication objects plates-to-annex --limit 50 --json"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "state", Usage: "pending, completed, failed or \"not in scope\""},
			&cli.IntFlag{Name: "limit", Value: 100, Usage: "how many objects to list; 0 for all"}},
		Action: a.replicationObjects}
}

func (a *app) replicationRetryCommand() *cli.Command {
	return &cli.Command{Name: "retry", Usage: "retry failed objects now, or decide about objects that are newer at a target",
		ArgsUsage: "NAME [KEY]",
		Description: "An object fails with newer-there when the target holds something that was written later and is no\n" +
			"replica of it. You decide which one stays: --overwrite replaces what is there, --accept keeps it until the\n" +
			"source changes again. Both first say how many objects they are about.\n\n" +
			examples("spindle replication retry notes-to-mill",
				"spindle replication retry notes-to-mill 2024/heron.txt --overwrite"),
		Flags: []cli.Flag{&cli.BoolFlag{Name: "overwrite", Usage: "overwrite objects that are newer at the target"},
			&cli.BoolFlag{Name: "accept", Usage: "keep objects that are newer at the target"}, yesFlag(),
			&cli.BoolFlag{Name: "accept-target", Usage: "accept the target bucket, although it was recreated"}},
		Action: a.replicationRetry}
}

func (a *app) replicationRemoveCommand() *cli.Command {
	return &cli.Command{Name: "remove", Usage: "remove a rule; copies stay where they are", ArgsUsage: "NAME",
		Description: examples("spindle replication remove notes-to-mill", "spindle replication remove notes-to-mill --yes"),
		Flags:       []cli.Flag{yesFlag()},
		Action: removing(a, "replication rule", replicationsPath, func(r api.ReplicationInfo) string {
			return fmt.Sprintf("The rule %s goes, and what is known of its copies. They stay where they are: %s.", r.Name,
				addresses(r))
		})}
}

func addresses(r api.ReplicationInfo) string {
	var out []string
	for _, t := range r.Targets {
		out = append(out, t.Address)
	}
	return strings.Join(out, ", ")
}

// ruleTargets reads where a rule copies, and what it promises.
func ruleTargets(c *cli.Command, in *api.ReplicationChange) error {
	if !c.IsSet("to") && (c.IsSet("tier") || c.IsSet("sealing")) {
		return wrongUsage("--tier and --sealing are of targets: name them with --to").see(c)
	}
	sealed := false
	if c.IsSet("sealing") {
		var err error
		if sealed, err = isOn("sealing", c.String("sealing")); err != nil {
			return err
		}
	}
	for _, to := range c.StringSlice("to") {
		in.Targets = append(in.Targets, api.TargetSetting{Address: to, Class: c.String("tier"), Sealed: sealed})
	}
	return lagTarget(c, in)
}

func lagTarget(c *cli.Command, in *api.ReplicationChange) error {
	s := c.String("lag-target")
	switch {
	case !c.IsSet("lag-target"):
		return nil
	case s == "none":
		in.NoLag = true
		return nil
	}
	share, within, ok := strings.Cut(s, "/")
	percent, err := strconv.ParseFloat(strings.TrimSuffix(share, "%"), 64)
	if err != nil || !ok {
		return fault.New(fault.Invalid, "lag-target", "%q is no lag target", s).In("lag-target").Do("say it as 99/5m")
	}
	d, err := object.ParseDuration(within)
	if err != nil {
		return fault.From(err).In("lag-target")
	}
	in.Lag = &api.LagTarget{Percent: percent, Seconds: d.Seconds()}
	return nil
}

func (a *app) replicationAdd(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	if !c.IsSet("from") || !c.IsSet("to") {
		return wrongUsage("a rule needs --from and --to").see(c)
	}
	bucket, prefix, _ := strings.Cut(c.String("from"), "/")
	in := api.NewReplication{Name: name, Bucket: bucket, Existing: "leave"}
	in.Prefix = &prefix
	if err = readFlags(c, &in); err == nil {
		err = ruleTargets(c, &in.ReplicationChange)
	}
	if err != nil {
		return err
	}
	var review api.Review
	if err := p.call(ctx, http.MethodPost, "/api/v1/replications/review", nil, in, &review); err != nil {
		return err
	}
	if c.Bool("review") {
		return a.print(review, func() error { return a.showReview(review) })
	}
	if !a.json {
		fmt.Fprintln(a.Err, shown(review.Says))
	}
	if in.Existing, err = a.askExisting(c, review); err != nil {
		return err
	}
	var r api.ReplicationInfo
	if err := p.call(ctx, http.MethodPost, "/api/v1/replications", nil, in, &r); err != nil {
		return err
	}
	return a.print(r, func() error { return a.showReplication(r) })
}

// askExisting finds out what is to happen with what is there already, which is never
// assumed.
func (a *app) askExisting(c *cli.Command, review api.Review) (string, error) {
	said := c.String("existing")
	if said == "" && a.Asks {
		for _, e := range review.Existing {
			fmt.Fprintf(a.Err, "There already, for %s: %s.\n", shown(e.Target), wouldGo(e.Quantity))
		}
		var err error
		if said, err = a.ask("Leave it, or backfill? "); err != nil {
			return "", err
		}
	}
	if said != "leave" && said != "backfill" {
		return "", wrongUsage("say what happens with the objects that are there already: --existing leave or --existing backfill").
			see(c)
	}
	return said, nil
}

func (a *app) showReview(r api.Review) error {
	fmt.Fprintln(a.Out, shown(r.Says))
	for _, e := range r.Existing {
		fmt.Fprintf(a.Out, "There already, for %s: %s.\n", shown(e.Target), wouldGo(e.Quantity))
	}
	for _, l := range r.Lacks {
		mends := ""
		if l.Mends {
			mends = ", or say --mend"
		}
		fmt.Fprintf(a.Out, "It lacks: %s.\n  fix: %s%s\n", shown(l.Says), shown(l.Remedy), mends)
	}
	return nil
}

// seconds shows a time as a lag is told: within a factor of two.
func seconds(s float64) string {
	if s == 0 {
		return "-"
	}
	d := time.Duration(s * float64(time.Second))
	switch {
	case d >= time.Hour:
		d = d.Round(time.Minute)
		return strings.TrimSuffix(d.String(), "0s")
	case d >= 10*time.Second:
		d = d.Round(time.Second)
	case d >= time.Second:
		d = d.Round(100 * time.Millisecond)
	default:
		d = d.Round(time.Millisecond)
	}
	return d.String()
}

// share writes a percentage so that what is not all never reads as all.
func share(percent float64) string {
	s := fmt.Sprintf("%.2f percent", percent)
	if percent < 100 && s == "100.00 percent" {
		return "almost 100 percent"
	}
	return s
}

func waitsFor(t *time.Time) string {
	if t == nil {
		return "-"
	}
	return time.Since(*t).Round(time.Second).String()
}

func replicationRow(r api.ReplicationInfo) []string {
	var waiting, bytes int64
	var oldest *time.Time
	p50, p99 := 0.0, 0.0
	for _, t := range r.Targets {
		waiting, bytes = waiting+t.Waiting, bytes+t.Bytes
		if t.Oldest != nil && (oldest == nil || t.Oldest.Before(*oldest)) {
			oldest = t.Oldest
		}
		p50, p99 = max(p50, t.Lag.P50), max(p99, t.Lag.P99)
	}
	from := r.Bucket
	if r.Prefix != "" {
		from += "/" + r.Prefix
	}
	return []string{r.Name, r.State, shown(from), shown(addresses(r)), count(waiting), size(bytes), waitsFor(oldest),
		seconds(p50), seconds(p99)}
}

func (a *app) showReplication(r api.ReplicationInfo) error {
	promised := "nothing"
	if r.Lag != nil {
		promised = fmt.Sprintf("%v percent within %s", r.Lag.Percent, seconds(r.Lag.Seconds))
	}
	if err := a.facts([][2]string{{"Rule", r.Name}, {"Does", shown(r.Says)}, {"State", r.State},
		{"Priority", strconv.Itoa(r.Priority)}, {"Lag target", promised}, {"Saved by", shown(r.By) + ", " + when(r.Changed)},
		{"Revision", strconv.Itoa(r.Revision)}}); err != nil {
		return err
	}
	for _, t := range r.Targets {
		fmt.Fprintln(a.Out)
		if err := a.facts(targetFacts(r, t)); err != nil {
			return err
		}
	}
	return nil
}

func targetFacts(r api.ReplicationInfo, t api.TargetInfo) [][2]string {
	state := t.State
	if t.Why != "" && t.Failing == nil {
		state += ": " + shown(t.Why)
	}
	facts := [][2]string{{"Target", shown(t.Address)}, {"State", state}}
	if t.Failing != nil {
		facts = append(facts, [2]string{"Fails", fmt.Sprintf("since %s: %s", when(t.Failing.Since), shown(t.Failing.Says))})
	}
	if t.Health != nil {
		facts = append(facts, [2]string{"Endpoint", fmt.Sprintf("%s, answers in %.0f ms", t.Health.State, t.Health.Latency)})
	}
	waits := fmt.Sprintf("%s, %s", things(t.Waiting, "object", "objects"), size(t.Bytes))
	if t.Failed > 0 {
		waits += fmt.Sprintf("; %s failed so far", count(t.Failed))
	}
	if t.Oldest != nil {
		waits += ", the oldest for " + waitsFor(t.Oldest)
	}
	facts = append(facts, [2]string{"Waiting", waits})
	if t.Next != nil {
		facts = append(facts, [2]string{"Next try", when(*t.Next)})
	}
	if t.DoneIn > 0 {
		facts = append(facts, [2]string{"Done in", "about " + seconds(t.DoneIn)})
	}
	lag := "nothing was copied in the last hour"
	if t.Lag.Count > 0 {
		lag = fmt.Sprintf("below %s for half, %s for 99 percent, %s for nearly all of %s", seconds(t.Lag.P50),
			seconds(t.Lag.P99), seconds(t.Lag.P9999), things(t.Lag.Count, "change", "changes"))
	}
	facts = append(facts, [2]string{"Lag", lag})
	if r.Lag != nil {
		met := "met, " + share(t.Lag.Within)
		if !t.Lag.Met {
			met = "missed, " + share(t.Lag.Within)
		}
		facts = append(facts, [2]string{"Lag target", met})
	}
	if b := t.Backfill; b != nil {
		facts = append(facts, [2]string{"Backfill", fmt.Sprintf("%s, %s found", b.State, things(b.Asked, "object",
			"objects"))})
	}
	if t.Verified != nil {
		facts = append(facts, [2]string{"Verified", when(*t.Verified)})
	}
	return facts
}

func (a *app) replicationStatus(ctx context.Context, c *cli.Command) error {
	p, what, err := a.one(c)
	if err != nil {
		return err
	}
	if strings.Contains(what, "/") {
		return a.objectStatus(ctx, p, what)
	}
	var r api.ReplicationInfo
	if err := p.call(ctx, http.MethodGet, replicationsPath+url.PathEscape(what), nil, nil, &r); err != nil {
		return err
	}
	var faults struct{ Faults []api.FaultInfo }
	if err := p.call(ctx, http.MethodGet, replicationsPath+url.PathEscape(what)+"/faults", nil, nil, &faults); err != nil {
		return err
	}
	var list []api.WaitingInfo
	_, err = pages(ctx, p, replicationsPath+url.PathEscape(what)+"/waiting", "waiting", false,
		url.Values{"limit": {"1000"}}, func(w api.WaitingInfo) (bool, error) {
			list = append(list, w)
			return len(list) < c.Int("limit"), nil
		})
	if err != nil {
		return err
	}
	return a.print(map[string]any{"rule": r, "faults": faults.Faults, "waiting": list}, func() error {
		return a.ruleStatus(r, faults.Faults, list)
	})
}

func (a *app) ruleStatus(r api.ReplicationInfo, faults []api.FaultInfo, list []api.WaitingInfo) error {
	if err := a.showReplication(r); err != nil {
		return err
	}
	if len(faults) > 0 {
		fmt.Fprintln(a.Out, "\nWhy things failed:")
		var rows [][]string
		for _, f := range faults {
			rows = append(rows, []string{count(f.Count), f.Code, shown(f.Says), shown(f.Target)})
		}
		if err := a.table([]column{{"OBJECTS", true}, {"CODE", false}, {"SAYS", false}, {"TARGET", false}},
			rows); err != nil {
			return err
		}
	}
	if len(list) == 0 {
		return nil
	}
	fmt.Fprintln(a.Out, "\nWhat waits:")
	var rows [][]string
	for _, w := range list {
		next := ""
		if w.Next != nil {
			next = w.Next.Local().Format("15:04:05")
		}
		rows = append(rows, []string{shown(w.Key), size(w.Bytes), waitsFor(w.Since), strconv.Itoa(w.Attempts), next,
			shown(w.Says)})
	}
	return a.table([]column{{"KEY", false}, {"BYTES", true}, {"WAITS", true}, {"TRIES", true}, {"NEXT", false},
		{"WHY", false}}, rows)
}

func (a *app) objectStatus(ctx context.Context, p *desk, what string) error {
	bucket, key, err := split(what)
	if err != nil {
		return err
	}
	var in api.ReplicasInfo
	if err := p.call(ctx, http.MethodGet, bucketCall(bucket, "/replicas"), url.Values{"key": {key}}, nil,
		&in); err != nil {
		return err
	}
	return a.print(in, func() error {
		if of := in.Of; of != nil {
			fmt.Fprintf(a.Out, "It is a replica of %s.\n", shown(replicaSource(of)))
		}
		if len(in.Replicas) == 0 {
			a.note("Its bucket has no rule.")
			return nil
		}
		if in.Removed {
			fmt.Fprintln(a.Out, "It is not there any more; this is how its removal stands.")
		}
		var rows [][]string
		for _, r := range in.Replicas {
			rows = append(rows, []string{r.Rule, r.State, shown(r.Target), replicaSays(r, 0)})
		}
		return a.table([]column{{"RULE", false}, {"STATE", false}, {"TARGET", false}, {"", false}}, rows)
	})
}

// replicaSource says what a replica is a copy of.
func replicaSource(of *api.ReplicaOfInfo) string {
	source := "an object of another account"
	if of.Bucket != "" {
		source = of.Bucket + "/" + of.Key + ", version " + of.Version
	}
	if !of.Here {
		source += ", of another service"
	}
	return source + ", since " + when(of.Since)
}

// replicaSays says more of a copy's state; of is the object's size, 0 where that is not known.
func replicaSays(r api.ReplicaInfo, of int64) string {
	says := shown(r.Why)
	switch {
	case r.State == "failed" && r.Next != nil:
		says += ", next try " + r.Next.Local().Format("15:04:05")
	case r.State == "completed" && r.Confirmed != nil:
		says = "confirmed " + when(*r.Confirmed)
	case r.State == "pending" && r.Since != nil:
		says = strings.TrimPrefix(says+", since "+when(*r.Since), ", ")
	}
	switch {
	case r.Sent > 0 && of > 0:
		says += fmt.Sprintf(", %s of %s sent", size(r.Sent), size(of))
	case r.Sent > 0:
		says += fmt.Sprintf(", %s sent", size(r.Sent))
	}
	return says
}

func (a *app) replicationBackfill(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	var out struct{ Existing []api.ExistingReview }
	path := replicationsPath + url.PathEscape(name) + "/backfill"
	if err := p.call(ctx, http.MethodPost, path, nil, map[string]bool{"rehearse": true}, &out); err != nil {
		return err
	}
	var would []string
	for _, e := range out.Existing {
		would = append(would, fmt.Sprintf("%s to %s", wouldGo(e.Quantity), shown(e.Target)))
	}
	if err := a.confirm(c, "It copies "+strings.Join(would, ", and ")+".", name); err != nil {
		return err
	}
	if err := p.call(ctx, http.MethodPost, path, nil, map[string]bool{}, &out); err != nil {
		return err
	}
	return a.print(out.Existing, func() error {
		_, err := fmt.Fprintf(a.Out, "The backfill is under way: %s.\nSee how far it is: spindle replication status %s\n",
			strings.Join(would, ", and "), name)
		return err
	})
}
