package cli

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/transfer"
)

const endpointsPath = "/api/v1/endpoints/"

func (a *app) endpointCommand() *cli.Command {
	what := []cli.Flag{
		&cli.StringFlag{Name: "url", Usage: "scheme and host, `https://HOST:PORT`"},
		&cli.StringFlag{Name: "key", Usage: "the `ID` of your access key there"},
		&cli.StringFlag{Name: "secret-from",
			Usage: "read the key's secret from this `FILE`, - for standard input; default: you are asked"},
		&cli.StringFlag{Name: "region", Usage: "region that requests are signed for", DefaultText: "found out"},
		&cli.StringFlag{Name: "style", Usage: "address style: path or host", DefaultText: "found out"},
		&cli.StringFlag{Name: "bucket", Usage: "bucket that checks look at", DefaultText: "the first that the key sees"},
		&cli.BoolFlag{Name: "try-writing",
			Usage: "also put, read and remove small objects in that bucket, to learn more"},
		&cli.StringFlag{Name: "bandwidth",
			Usage: "maximum `BYTES` per second sent and read, such as 4MiB; none for no limit"},
		noteFlag("what it is for"),
		&cli.BoolFlag{Name: "anyway", Usage: "save it even if the check fails"},
	}
	return &cli.Command{Name: "endpoint", Usage: "other stores, with your keys there",
		Commands: []*cli.Command{
			{Name: "add", Usage: "check another store, and register it", ArgsUsage: "NAME",
				Description: examples(
					"spindle endpoint add lowland-annex --url http://127.0.0.1:5721 --key FENNMOOR --secret-from ./annex.secret",
					"spindle endpoint add old-mill --url https://mill.example --key MILL --bucket notes --try-writing --bandwidth 2MiB"),
				Flags: what, Action: a.endpointAdd},
			{Name: "list", Usage: "list endpoints", Description: examples("spindle endpoint list",
				"spindle endpoint list --json"),
				Action: listing[api.EndpointInfo]{path: "/api/v1/endpoints", field: "endpoints",
					none: "There is no endpoint yet: spindle endpoint add NAME --url URL --key ID.", row: endpointRow,
					columns: []column{{"ENDPOINT", false}, {"STATE", false}, {"SINCE", false}, {"ANSWERS IN", true}, {"URL", false},
						{"REGION", false}, {"KEY", false}, {"NOTE", false}}}.action(a)},
			{Name: "show", Usage: "show an endpoint, its state and what it can do", ArgsUsage: "NAME",
				Description: examples("spindle endpoint show lowland-annex", "spindle endpoint show old-mill --json"),
				Action:      showing(a, endpointsPath, printed(a, a.showEndpoint))},
			{Name: "check", Usage: "check an endpoint now, step by step", ArgsUsage: "NAME",
				Description: "Exits 1 when something is wrong.\n\n" + examples("spindle endpoint check old-mill",
					"spindle endpoint check lowland-annex --bucket notes --try-writing"),
				Flags: []cli.Flag{what[5], what[6]}, Action: a.endpointCheck},
			{Name: "change", Usage: "change an endpoint, and check it", ArgsUsage: "NAME",
				Description: "A new address needs the secret again; region and style are then detected again.\n\n" +
					examples("spindle endpoint change old-mill --bandwidth 1MiB",
						"spindle endpoint change lowland-annex --key FENNMOOR2 --secret-from ./annex.secret"),
				Flags: append(slices.Clone(what), &cli.IntFlag{Name: "if-revision",
					Usage: "only if it is still at this `REVISION`"}), Action: a.endpointChange},
			{Name: "remove", Usage: "remove an endpoint that no rule uses", ArgsUsage: "NAME",
				Description: "What is there stays as it is.\n\n" + examples("spindle endpoint remove old-mill",
					"spindle endpoint remove harbour-mirror --yes"),
				Flags: []cli.Flag{yesFlag()},
				Action: removing(a, "endpoint", endpointsPath, func(e api.EndpointInfo) string {
					return fmt.Sprintf("The endpoint %s (%s) and the secret of the key %s are forgotten; what is there stays.", e.Name,
						e.URL, e.Key)
				})},
		}}
}

// endpointFields reads the flags of an endpoint.
func (a *app) endpointFields(c *cli.Command, secret bool) (in api.EndpointChange, err error) {
	for flag, into := range map[string]**string{"url": &in.URL, "key": &in.Key, "region": &in.Region, "style": &in.Style,
		"bucket": &in.Bucket, "note": &in.Note} {
		if c.IsSet(flag) {
			s := c.String(flag)
			*into = &s
		}
	}
	in.Write, in.Anyway = c.Bool("try-writing"), c.Bool("anyway")
	if c.IsSet("bandwidth") {
		n, err := parseSize("bandwidth", c.String("bandwidth"))
		if err != nil {
			return in, err
		}
		if in.Bandwidth = n; n == nil {
			in.Bandwidth = new(int64)
		}
	}
	if secret || c.IsSet("secret-from") {
		s, err := a.secretFrom(c.String("secret-from"))
		if err != nil {
			return in, err
		}
		in.Secret = &s
	}
	return in, nil
}

// secretFrom reads a secret from a file, or asks for it.
func (a *app) secretFrom(file string) (string, error) {
	switch file {
	case "":
		return a.askSecret()
	case "-":
		return a.ask("")
	}
	b, err := os.ReadFile(file)
	if err != nil {
		return "", transfer.LocalError(file, err)
	}
	return strings.TrimSpace(string(b)), nil
}

func (a *app) endpointAdd(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	if !c.IsSet("url") || !c.IsSet("key") {
		return wrongUsage("an endpoint needs --url and --key").see(c)
	}
	in, err := a.endpointFields(c, true)
	if err != nil {
		return err
	}
	return a.watchCheck(ctx, p, api.WatchedCheck{NewEndpoint: api.NewEndpoint{Name: name, EndpointChange: in}})
}

func (a *app) endpointChange(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	in, err := a.endpointFields(c, c.IsSet("url"))
	if err != nil {
		return err
	}
	if in == (api.EndpointChange{}) {
		return wrongUsage("nothing to change was given").see(c)
	}
	return a.watchCheck(ctx, p, api.WatchedCheck{NewEndpoint: api.NewEndpoint{Name: name, EndpointChange: in},
		Change:     true,
		IfRevision: c.Int("if-revision")})
}

func (a *app) endpointCheck(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	in, err := a.endpointFields(c, false)
	if err != nil {
		return err
	}
	return a.watchCheck(ctx, p, api.WatchedCheck{NewEndpoint: api.NewEndpoint{Name: name, EndpointChange: in},
		Check: true})
}

// watchCheck has the service check an endpoint and shows each step as it is done, then
// the endpoint.
func (a *app) watchCheck(ctx context.Context, p *desk, in api.WatchedCheck) error {
	var done *api.EndpointInfo
	var bad *endpoint.Finding
	err := stream(ctx, p, endpointsPath+"check", in, func(s api.EndpointStep) error {
		switch {
		case s.Problem != nil:
			return s.Problem.Fault()
		case s.Endpoint != nil:
			done = s.Endpoint
		case s.Finding != nil:
			if s.Finding.Result == endpoint.Wrong && bad == nil {
				bad = s.Finding
			}
			a.checkLine(*s.Finding)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if done == nil {
		return foreign(http.StatusOK)
	}
	if err := a.print(done, func() error { fmt.Fprintln(a.Out); return a.showEndpoint(*done) }); err != nil {
		return err
	}
	if in.Check && bad != nil {
		return fault.New(fault.Unavailable, "check-failed", "%s", bad.Seen).In(bad.Field).Do("%s", bad.Remedy)
	}
	return nil
}

func (a *app) checkLine(f endpoint.Finding) {
	if !a.json {
		fmt.Fprintf(a.Err, "%-15s %-10s %s\n", f.Field, f.Result, shown(f.Seen))
	}
}

func endpointRow(e api.EndpointInfo) []string {
	answers := ""
	if e.Health.Checked != nil && e.Health.Latency > 0 {
		answers = fmt.Sprintf("%.0f ms", e.Health.Latency)
	}
	return []string{e.Name, e.Health.State, when(e.Health.Since), answers, e.URL, e.Region, e.Key, shown(e.Note)}
}

func (a *app) showEndpoint(e api.EndpointInfo) error {
	limit := "no limit"
	if e.Bandwidth > 0 {
		limit = size(e.Bandwidth) + "/s"
	}
	state := e.Health.State + ", since " + when(e.Health.Since)
	checked := "never"
	if e.Health.Checked != nil {
		checked = ago(*e.Health.Checked)
	}
	facts := [][2]string{{"Endpoint", e.Name}, {"State", state}, {"Checked", checked}}
	if e.Health.Says != "" {
		facts = append(facts, [2]string{"Wrong", strings.TrimPrefix(e.Health.Field+": ", ": ") + shown(e.Health.Says)},
			[2]string{"To mend it", shown(e.Health.Remedy)})
	}
	var can, not, unknown []string
	for _, ab := range e.Health.Abilities {
		list := map[string]*[]string{"yes": &can, "no": &not, "not known": &unknown}[ab.Can]
		*list = append(*list, ab.Name)
	}
	facts = append(facts, [][2]string{{"URL", e.URL}, {"Region", e.Region}, {"Style", e.Style}, {"Key", e.Key},
		{"Bandwidth", limit}, {"Checks look at", orDash(e.Bucket)}, {"Can", orDash(strings.Join(can, ", "))},
		{"Cannot", orDash(strings.Join(not, ", "))}, {"Not known", orDash(strings.Join(unknown, ", "))},
		{"Note", orDash(shown(e.Note))}, {"Revision", fmt.Sprint(e.Revision)}}...)
	return a.facts(facts)
}
