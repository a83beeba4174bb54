package cli

import (
	"net/http"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/core/access"
)

func noteFlag(what string) cli.Flag {
	return &cli.StringFlag{Name: "note", Usage: what}
}

func (a *app) accessCommand() *cli.Command {
	return &cli.Command{Name: "access", Usage: "accounts, people, keys and grants: who may do what, and why",
		Commands: []*cli.Command{
			a.accountCommand(), a.personCommand(), a.keyCommand(), a.grantCommand(), a.sessionCommand(),
			{Name: "trail", Usage: "list the audit trail, latest first: sign-ins, changes of access and settings, refusals",
				Description: examples("spindle access trail --since 24h",
					"spindle access trail --kind refused --who FIELDKIT --json"),
				Flags: []cli.Flag{&cli.StringSliceFlag{Name: "kind", Usage: "only this `KIND`, may be repeated: " +
					strings.Join(access.TrailKinds, ", ")}, &cli.StringFlag{Name: "who", Usage: "only entries by this person or key"},
					&cli.StringFlag{Name: "subject", Usage: "only entries whose subject begins with `TEXT`, such as a bucket"},
					&cli.StringFlag{Name: "account", Usage: "only this account"},
					&cli.StringFlag{Name: "since", Usage: "not before `TIME`, such as 2026-11-20, or 36h ago"},
					&cli.StringFlag{Name: "until", Usage: "before `TIME`"},
					&cli.IntFlag{Name: "before", Usage: "continue after the entry with this `NUMBER`"},
					&cli.IntFlag{Name: "limit", Usage: "maximum number of entries", Value: 50}},
				Action: a.trail},
			{Name: "explain", Usage: "explain whether somebody may do something, what decides it, and what would " +
				"change it",
				ArgsUsage: "BUCKET[/KEY]",
				Description: examples("spindle access explain --key FIELDKIT --do read plates/2025/moorland/",
					"spindle access explain --person 'Ines Varga' --do settings germination",
					"spindle access explain --anyone --do read loans/open/list.txt"),
				Flags: []cli.Flag{doFlag(), &cli.StringFlag{Name: "key", Usage: "about the access key with this id or name: `KEY`"},
					&cli.StringFlag{Name: "person", Usage: "about the person of this `NAME`"},
					&cli.BoolFlag{Name: "anyone", Usage: "about unsigned requests"},
					&cli.StringFlag{Name: "account", Usage: "account the person acts in, if they have several"}},
				Action: a.explainAccess},
			{Name: "test", Usage: "test a key with a real request that changes nothing", ArgsUsage: "BUCKET[/KEY]",
				Description: examples("spindle access test --key SCANNER2 --do write plates/2025/x.tif",
					"spindle access test --key FIELDKIT --do list plates/"),
				Flags:  []cli.Flag{doFlag(), &cli.StringFlag{Name: "key", Usage: "the access `KEY`, by its id or name"}},
				Action: a.testAccess},
			{Name: "matrix", Usage: "show who can reach which bucket of an account",
				Description: examples("spindle access matrix", "spindle access matrix --account seed-lab --json"),
				Flags:       []cli.Flag{&cli.StringFlag{Name: "account", Usage: "the account; default: your own"}},
				Action:      a.matrix},
			{Name: "master-key", Usage: "the key that seals all secrets", Commands: []*cli.Command{
				{Name: "show", Usage: "show which master key is in force, without the key",
					Description: examples("spindle access master-key show", "spindle access master-key show --json"),
					Action:      a.masterKey(http.MethodGet, "")},
				{Name: "rotate", Usage: "make a new master key and seal all secrets under it",
					Description: "Stored bodies are not rewritten. Back the new key up: the file master.key in the data directory.\n\n" + examples("spindle access master-key rotate", "spindle access master-key rotate --json"), Action: a.masterKey(http.MethodPost, "/rotate")},
			}},
		}}
}

func doFlag() cli.Flag {
	return &cli.StringFlag{Name: "do", Usage: "list, read, write, remove or settings", Value: "read"}
}

func orDash(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func maybe(t *time.Time, none string) string {
	if t == nil {
		return none
	}
	return when(*t)
}
