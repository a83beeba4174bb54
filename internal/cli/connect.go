package cli

import (
	"context"
	"fmt"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"spindle/internal/api"
	"spindle/internal/core/endpoint"
	"spindle/internal/core/fault"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
)

var profileName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

func (a *app) connectCommand() *cli.Command {
	return &cli.Command{
		Name: "connect", Usage: "save a service's address and key, and check them", ArgsUsage: "URL",
		Description: "URL is the desk's address, such as http://127.0.0.1:5711; the desk tells the address of " +
			"the wire.\nYou are asked for the secret, or it is read from SPINDLE_SECRET or standard input; " +
			"it is never part of a command.\n\nExamples:\n" +
			"  spindle connect http://127.0.0.1:5711 --key HERBARIUMOWNER\n" +
			"  spindle connect https://objects.fennmoor.example --key SCANNER2 --name scans < secret.txt",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "key", Usage: "the access key's id; asked for when missing"},
			&cli.StringFlag{Name: "name", Usage: "the profile's name", Value: "default"},
			&cli.StringFlag{Name: "bucket", Usage: "also try this bucket"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			in, err := args(c, 1, 1)
			if err != nil {
				return err
			}
			name := c.String("name")
			if !profileName.MatchString(name) {
				return wrongUsage("--name is made of a-z, 0-9 and hyphens")
			}
			p := profile{URL: in[0], Key: c.String("key")}
			if p.Key == "" {
				p.Key = a.Getenv("SPINDLE_KEY")
			}
			if p.Key == "" {
				if p.Key, err = a.ask("Key: "); err != nil {
					return err
				}
			}
			if p.Secret = a.Getenv("SPINDLE_SECRET"); p.Secret == "" {
				if p.Secret, err = a.askSecret(); err != nil {
					return err
				}
			}
			if err := a.check(ctx, p, c.String("bucket")); err != nil {
				return err
			}
			ps, err := a.readProfiles()
			if err != nil {
				return err
			}
			ps.Profiles[name], ps.Use = p, name
			if err := a.writeProfiles(ps); err != nil {
				return err
			}
			path, err := a.profilePath()
			if err != nil {
				return err
			}
			a.note("Saved as profile %q in %s.", name, path)
			return nil
		},
	}
}

func (a *app) ask(prompt string) (string, error) {
	if a.Asks {
		fmt.Fprint(a.Err, prompt)
	}
	line, err := a.in.ReadString('\n')
	line = strings.TrimSpace(line)
	if line == "" {
		return "", wrongUsage("nothing was given for %s(%v)", prompt, err)
	}
	return line, nil
}

func (a *app) askSecret() (string, error) { return a.askHidden("Secret: ") }

// askHidden asks for what nobody should see, such as a secret.
func (a *app) askHidden(prompt string) (string, error) {
	if f, ok := a.In.(*os.File); ok && a.Asks {
		fmt.Fprint(a.Err, prompt)
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.Err)
		return strings.TrimSpace(string(b)), err
	}
	return a.ask(prompt)
}

// check looks at a profile's settings for real, desk and wire.
func (a *app) check(ctx context.Context, p profile, bucket string) error {
	d, err := newAPI(p)
	if err != nil {
		return err
	}
	info, err := d.service(ctx)
	if err != nil {
		if fault.HasCode(err, "foreign") || fault.HasCode(err, "unreachable") {
			return a.diagnose(ctx, p, err)
		}
		return err
	}
	var session api.SessionInfo
	if err := d.call(ctx, "GET", "/api/v1/session", nil, nil, &session); err != nil {
		return err
	}
	r := client.Check(ctx, client.Settings{Address: info.Wire.URL, Style: "path", Region: info.Region,
		Key: sign.Credential{ID: p.Key, Secret: p.Secret}, Bucket: bucket, Own: true})
	if !a.json {
		rows := [][]string{{"desk", "agrees", fmt.Sprintf("spindle %s, region %s, account %s", info.Version, info.Region,
			session.Account)}}
		for _, f := range r.Findings {
			if f.Result == endpoint.NotTried || f.Result == endpoint.NotUsed {
				continue
			}
			rows = append(rows, []string{"wire, " + f.Field, string(f.Result), shown(f.Seen)})
		}
		if err := a.table([]column{{"WHAT", false}, {"RESULT", false}, {"SEEN", false}}, rows); err != nil {
			return err
		}
	} else if err := a.print(r, nil); err != nil {
		return err
	}
	for _, f := range r.Findings {
		if f.Result == endpoint.Wrong {
			return fault.New(fault.Unavailable, "check-failed", "%s", f.Seen).In(f.Field).Do("%s", f.Remedy)
		}
	}
	return nil
}

// diagnose names what is wrong with an address that is no desk.
func (a *app) diagnose(ctx context.Context, p profile, cause error) error {
	r := client.Check(ctx, client.Settings{Address: p.URL, Style: "path", Region: "any",
		Key: sign.Credential{ID: p.Key, Secret: p.Secret}, Own: true})
	for _, f := range r.Findings {
		if f.Field == "port" && f.Result == endpoint.Agrees {
			return fault.New(fault.Unavailable, "wire-not-desk",
				"this address answers, but it is the wire's; the desk is on another port, by default 5711").In("port").
				Do("give the desk's address")
		}
		if f.Result == endpoint.Wrong {
			return fault.New(fault.Unavailable, "check-failed", "%s", f.Seen).In(f.Field).Do("%s", f.Remedy)
		}
	}
	return cause
}

func (a *app) profileCommand() *cli.Command {
	return &cli.Command{Name: "profile", Usage: "saved services", Commands: []*cli.Command{
		{Name: "list", Usage: "list profiles",
			Description: "Examples:\n  spindle profile list\n  spindle profile list --json",
			Action: func(_ context.Context, c *cli.Command) error {
				if _, err := args(c, 0, 0); err != nil {
					return err
				}
				ps, err := a.readProfiles()
				if err != nil {
					return err
				}
				type line struct {
					Name string `json:"name"`
					URL  string `json:"url"`
					Key  string `json:"key"`
					Use  bool   `json:"use"`
				}
				lines, rows := []line{}, [][]string{}
				for _, n := range slices.Sorted(maps.Keys(ps.Profiles)) {
					p := ps.Profiles[n]
					lines = append(lines, line{n, p.URL, p.Key, n == ps.Use})
					use := ""
					if n == ps.Use {
						use = "in use"
					}
					rows = append(rows, []string{n, p.URL, p.Key, use})
				}
				return a.print(lines, func() error {
					return a.table([]column{{"NAME", false}, {"DESK", false}, {"KEY", false}, {"", false}}, rows)
				})
			}},
		{Name: "use", Usage: "choose the profile that commands talk to", ArgsUsage: "NAME",
			Description: "Examples:\n  spindle profile use default\n  spindle profile use scans",
			Action: func(_ context.Context, c *cli.Command) error {
				return a.changeProfiles(c, func(ps *profiles, name string) { ps.Use = name })
			}},
		{Name: "remove", Usage: "forget a profile", ArgsUsage: "NAME",
			Description: "Examples:\n  spindle profile remove scans\n  spindle profile remove default",
			Action: func(_ context.Context, c *cli.Command) error {
				return a.changeProfiles(c, func(ps *profiles, name string) {
					delete(ps.Profiles, name)
					if ps.Use == name {
						ps.Use = ""
					}
				})
			}},
	}}
}

func (a *app) changeProfiles(c *cli.Command, change func(*profiles, string)) error {
	in, err := args(c, 1, 1)
	if err != nil {
		return err
	}
	ps, err := a.readProfiles()
	if err != nil {
		return err
	}
	if _, ok := ps.Profiles[in[0]]; !ok {
		return fault.New(fault.NotFound, "profile-missing", "there is no profile %q", in[0]).In("profile").
			Do("see spindle profile list")
	}
	change(ps, in[0])
	return a.writeProfiles(ps)
}
