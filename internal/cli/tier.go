package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

const tiersPath = "/api/v1/tiers/"

func (a *app) tierCommand() *cli.Command {
	what := []cli.Flag{
		&cli.StringSliceFlag{Name: "volume",
			Usage: "add this `DIRECTORY` of the service's machine, empty or not there yet; may be repeated; or one bucket at an endpoint, as @ENDPOINT/BUCKET or @ENDPOINT/BUCKET/PREFIX"},
		&cli.IntFlag{Name: "copies", Usage: "number of copies of each body, each on another volume", DefaultText: "1"},
		&cli.StringFlag{Name: "pieces",
			Usage: "cut each body into `DATA+PARITY` pieces, such as 4+2, each on another volume, instead of copies; none for one copy"},
		&cli.StringFlag{Name: "compression", Usage: "on or off"},
		&cli.StringFlag{Name: "sealing",
			Usage: "on or off: encrypt bodies at rest, whatever their bucket says; on at first for a bucket at an endpoint"},
		&cli.StringFlag{Name: "price", Usage: "price of a GiB for a month, such as `0.021`"},
		&cli.StringFlag{Name: "request-price", Usage: "price of 1,000 requests, such as `0.4`"},
		&cli.IntFlag{Name: "shortest-stay", Usage: "minimum number of `DAYS` that are paid for"},
		&cli.StringFlag{Name: "restore-after",
			Usage: "versions must be restored before they are read, which takes this `LONG`, such as 4h; none: read " +
				"at once"},
		&cli.IntFlag{Name: "restored-for", Usage: "`DAYS` that a restored copy stays", Value: 7},
		noteFlag("what it is for"),
	}
	return &cli.Command{Name: "tier",
		Usage: "classes of storage: where bodies are kept, in how many copies, at what price",
		Commands: []*cli.Command{
			{Name: "add", Usage: "add a tier on empty directories, or in an empty bucket at an endpoint", ArgsUsage: "NAME",
				Description: "A bucket at an endpoint keeps the bodies and nothing else: names, versions, " +
					"metadata and history stay here, and users notice nothing but speed. Names there are " +
					"numbers; content is sealed unless you switch that off.\n\n" +
					examples("spindle tier add annex --volume @lowland-annex/spindle-bodies --price 0.004",
						"spindle tier add drying-room --volume /mnt/slow1/spindle --compression on --price 0.008",
						"spindle tier add cellar --volume /mnt/a --volume /mnt/b --copies 2 --price 0.002 --restore-after 4h --shortest-stay 90",
						"spindle tier add press --volume /mnt/1 --volume /mnt/2 --volume /mnt/3 --volume /mnt/4 --volume /mnt/5 --volume /mnt/6 --pieces 4+2"),
				Flags: what, Action: a.tierAdd},
			a.tierListCommand(),
			{Name: "show", Usage: "show a tier", ArgsUsage: "NAME",
				Description: examples("spindle tier show cellar", "spindle tier show main --json"),
				Action:      showing(a, tiersPath, printed(a, a.showTier))},
			{Name: "change", Usage: "change a tier", ArgsUsage: "NAME",
				Description: "Existing objects are not rewritten. Take a volume that is lost, or that you want " +
					"to retire, out of a tier that keeps copies or pieces; its content is rebuilt on the " +
					"others.\n\n" +
					examples("spindle tier change main --price 0.021",
						"spindle tier change cellar --volume /mnt/c/spindle --copies 3",
						"spindle tier change press --without /mnt/2 --volume /mnt/7"),
				Flags: append(slices.Clone(what), &cli.IntFlag{Name: "if-revision",
					Usage: "only if it is still at this `REVISION`"},
					&cli.StringSliceFlag{Name: "without", Usage: "take this `DIRECTORY` out; may be repeated"},
					&cli.BoolFlag{Name: "give-up", Usage: "with --without: the directory is lost for good, and so are " +
						"bodies of which too little is left"}),
				Action: changing(a, tiersPath,
					func(c *cli.Command, in *api.TierUpdate) error { return tierRestore(c, &in.TierChange) },
					printed(a, a.showTier))},
			a.tierRepairCommand(),
			a.tierRemoveCommand(),
		}}
}

func (a *app) tierListCommand() *cli.Command {
	return &cli.Command{Name: "list", Usage: "list tiers", Description: examples("spindle tier list",
		"spindle tier list --json"),
		Action: listing[api.TierInfo]{path: "/api/v1/tiers", field: "tiers", none: "There is no tier.", row: tierRow,
			columns: []column{{"TIER", false}, {"GIB, MONTH", true}, {"COPIES", true}, {"KEPT", false}, {"READ", false},
				{"BYTES", true}, {"FREE", true}, {"VOLUMES", false}, {"NOTE", false}}}.action(a)}
}

func (a *app) tierRepairCommand() *cli.Command {
	return &cli.Command{Name: "repair", Usage: "read all bodies of a tier, and rebuild missing and damaged copies and pieces",
		ArgsUsage: "NAME",
		Description: "The repair runs in the service and survives a restart. Taking a volume out starts " +
			"one. Objects written while a volume was away are made whole without it.\n\n" +
			examples("spindle tier repair press", "spindle tier repair press --wait"),
		Flags:  []cli.Flag{&cli.BoolFlag{Name: "wait", Usage: "show progress until it is done"}},
		Action: a.tierRepair}
}

func (a *app) tierRemoveCommand() *cli.Command {
	return &cli.Command{Name: "remove", Usage: "remove a tier with nothing in it", ArgsUsage: "NAME",
		Description: "Its directories stay as they are.\n\n" + examples("spindle tier remove attic",
			"spindle tier remove attic --yes"),
		Flags: []cli.Flag{yesFlag()},
		Action: removing(a, "tier", tiersPath, func(t api.TierInfo) string {
			return fmt.Sprintf("The tier %s goes; it can be removed only when nothing is in it and nothing names it.", t.Name)
		})}
}

// tierRestore reads how versions of a tier are restored before they are read.
func tierRestore(c *cli.Command, in *api.TierChange) error {
	switch s := c.String("restore-after"); {
	case s == "none":
		in.AtOnce = true
	case s != "":
		d, err := object.ParseDuration(s)
		if err != nil {
			return fault.From(err).In("restore-after")
		}
		in.Restore = &api.RestoreInfo{Seconds: int64(d / time.Second), Days: c.Int("restored-for")}
	case c.IsSet("restored-for"):
		return wrongUsage("--restored-for goes with --restore-after").see(c)
	}
	return nil
}

func isOn(flag, s string) (bool, error) {
	if s != "on" && s != "off" {
		return false, wrongUsage("--%s is on or off, not %q", flag, s)
	}
	return s == "on", nil
}

// repairLine says in a line how far a repair is.
func repairLine(r *api.RepairInfo) string {
	s := fmt.Sprintf("%s, %s: %s read, %s made", when(r.Asked), r.Why, size(r.Bytes),
		things(r.Made, "copy or piece", "copies and pieces"))
	if r.Damaged > 0 {
		s += ", " + things(r.Damaged, "body", "bodies") + " that nothing gives back"
	}
	switch {
	case r.Finished != nil:
		s += "; done " + when(*r.Finished)
	case time.Until(r.After) > time.Second:
		s += "; waits for a volume that is away, until " + when(r.After)
	default:
		s += "; under way"
	}
	return s
}

func (a *app) tierRepair(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	path := tiersPath + url.PathEscape(name)
	var t api.TierInfo
	if err := p.call(ctx, http.MethodPost, path+"/repair", nil, nil, &t); err != nil {
		return err
	}
	for c.Bool("wait") && t.Repair != nil && t.Repair.Finished == nil {
		a.note("%s", repairLine(t.Repair))
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(2 * time.Second):
		}
		if err := p.call(ctx, http.MethodGet, path, nil, nil, &t); err != nil {
			return err
		}
	}
	return a.print(t, func() error { return a.showTier(t) })
}

func (a *app) tierAdd(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	in := api.NewTier{Name: name}
	if err = readFlags(c, &in); err == nil {
		err = tierRestore(c, &in.TierChange)
	}
	if err != nil {
		return err
	}
	var t api.TierInfo
	if err := p.call(ctx, http.MethodPost, "/api/v1/tiers", nil, in, &t); err != nil {
		return err
	}
	return a.print(t, func() error { return a.showTier(t) })
}

// price shows a price as it is counted.
func price(p float64) string { return strconv.FormatFloat(p, 'f', -1, 64) }

func tierKept(t api.TierInfo) string {
	var words []string
	if t.Packed {
		words = append(words, "compressed")
	}
	if t.Sealed {
		words = append(words, "sealed")
	}
	return strings.Join(words, ", ")
}

func tierRead(t api.TierInfo) string {
	if t.Restore == nil {
		return "at once"
	}
	return "restored in " + (time.Duration(t.Restore.Seconds) * time.Second).String()
}

func tierRow(t api.TierInfo) []string {
	bytes, free, away := "", "", ""
	if t.Elsewhere {
		away = "elsewhere"
	}
	if t.Bytes != nil {
		var n int64
		gone := 0
		for _, v := range t.Volumes {
			if n += v.Free; v.Away != "" {
				gone++
			}
		}
		bytes, free, away = size(*t.Bytes), size(n), strconv.Itoa(len(t.Volumes))
		if t.Elsewhere && len(t.Volumes) > 0 {
			free, away = "-", t.Volumes[0].Dir
		}
		switch {
		case gone > 0 && t.Elsewhere:
			away += ", away"
		case gone > 0:
			away += fmt.Sprintf(", %d away", gone)
		}
	}
	return []string{t.Name, price(t.Price), cmp.Or(t.Pieces, strconv.Itoa(t.Copies)), tierKept(t), tierRead(t), bytes,
		free, away,
		shown(t.Note)}
}

func (a *app) showTier(t api.TierInfo) error {
	read := "at once"
	if t.Restore != nil {
		read = fmt.Sprintf("%s, for %s", tierRead(t), things(int64(t.Restore.Days), "day", "days"))
	}
	facts := [][2]string{{"Tier", t.Name}, {"Note", shown(t.Note)}, {"Price", price(t.Price) + " a GiB and month, " +
		price(t.Requests) + " for 1,000 requests"}, {"Keeps", t.Keeps},
		{"May lose", things(int64(t.Losses), "volume", "volumes")},
		{"Shortest stay", things(int64(t.Stay), "day", "days")}, {"Read", read}, {"Revision", strconv.Itoa(t.Revision)}}
	if t.Elsewhere {
		facts = append(facts, [2]string{"Bodies are", "at another store"})
	}
	if t.Bytes != nil {
		facts = append(facts, [2]string{"Bytes of versions", size(*t.Bytes)})
	}
	for _, l := range t.Limits {
		facts = append(facts, [2]string{"Mind", l})
	}
	for _, w := range t.Warnings {
		facts = append(facts, [2]string{"Warning", w})
	}
	if t.Owed > 0 {
		facts = append(facts, [2]string{"Owed", things(t.Owed, "body lacks", "bodies lack") +
			" pieces, which are made once its volumes are there"})
	}
	if t.Repair != nil {
		facts = append(facts, [2]string{"Repair", repairLine(t.Repair)})
	}
	if err := a.facts(facts); err != nil || len(t.Volumes) == 0 {
		return err
	}
	fmt.Fprintln(a.Out)
	var rows [][]string
	for _, v := range t.Volumes {
		state := "there"
		if v.Away != "" {
			state = v.Away
		}
		free, total := size(v.Free), size(v.Total)
		if v.Elsewhere {
			free, total = "-", "-"
		}
		rows = append(rows, []string{shown(v.Dir), free, total, state})
	}
	return a.table([]column{{"VOLUME", false}, {"FREE", true}, {"OF", true}, {"STATE", false}}, rows)
}
