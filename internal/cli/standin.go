package cli

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/urfave/cli/v3"

	"spindle/internal/core/fault"
	"spindle/internal/standin"
)

// standinCommand runs a stand-in endpoint, for trying out how an endpoint fails.
func (a *app) standinCommand() *cli.Command {
	return &cli.Command{Name: "standin", Hidden: true,
		Usage: "run a small endpoint that fails on request, to try things out",
		Description: "Faults are JSON, such as {\"errors\": 0.1, \"outageEvery\": 300, \"outageFor\": 60}; GET and PUT\n" +
			"/.standin/faults read and change them while it runs, GET /.standin/counts counts what was answered.\n\n" +
			examples("spindle standin --listen 127.0.0.1:5730 --key MILLWRITER --secret sieve-and-sack",
				`spindle standin --folder ./mill --faults '{"latency": 40, "bandwidth": 2000000}'`),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "listen", Usage: "`HOST:PORT` of loopback", Value: "127.0.0.1:0"},
			&cli.StringFlag{Name: "folder", Usage: "keep objects in this `DIRECTORY`; default: in memory"},
			&cli.StringFlag{Name: "region", Usage: "region that requests must be signed for; default: any"},
			&cli.StringFlag{Name: "key", Value: "STANDIN", Usage: "the access key it knows"},
			&cli.StringFlag{Name: "secret", Value: "stand-in-for-trying", Usage: "its secret"},
			&cli.Uint64Flag{Name: "seed", Value: 1, Usage: "seed of what is left to chance"},
			&cli.StringFlag{Name: "faults", Usage: "its faults, as `JSON`"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := args(c, 0, 0); err != nil {
				return err
			}
			s := standin.Settings{Listen: c.String("listen"), Dir: c.String("folder"), Region: c.String("region"),
				Keys: map[string]string{c.String("key"): c.String("secret")}, Seed: c.Uint64("seed")}
			if text := c.String("faults"); text != "" {
				if err := json.Unmarshal([]byte(text), &s.Faults); err != nil {
					return fault.New(fault.Invalid, "faults", "the faults cannot be read: %s", err).In("faults").
						Do("give them as JSON, such as {\"errors\": 0.1}")
				}
			}
			is, err := standin.Start(s)
			if err != nil {
				return fault.New(fault.Invalid, "standin", "the stand-in cannot start: %s", err)
			}
			fmt.Fprintf(a.Out, "ready: %s, key %s\n", is.URL, c.String("key"))
			<-a.Done.Done()
			return is.Stop()
		}}
}
