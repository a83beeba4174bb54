package cli

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
)

func (a *app) clockCommand() *cli.Command {
	return &cli.Command{Name: "clock", Usage: "the clock that tells the age of everything",
		Description: "Ages and times of records are told by the database's clock. When it jumps back, the time that was " +
			"told goes on. When it jumps, back or ahead, rules that act by age wait until an operator says that it is right.",
		Commands: []*cli.Command{
			{Name: "show", Usage: "show the clock, and where it jumped",
				Description: examples("spindle clock show", "spindle clock show --json"), Action: a.clockShow},
			{Name: "right", Usage: "confirm that the clock is right after a jump, so that rules that act by age go on",
				ArgsUsage: "JUMP",
				Description: "The age of everything written since the jump before is in doubt: it is counted " +
					"from this jump on. If you know since when the clock was wrong, say so: the age of " +
					"everything written earlier is taken as it is.\n\n" +
					examples("spindle clock right 1", "spindle clock right 1 --wrong-since '2026-11-20 14:00'"),
				Flags: []cli.Flag{&cli.StringFlag{Name: "wrong-since",
					Usage: "the `MOMENT` from which the clock was wrong, as it was told then"}},
				Action: a.clockRight},
		}}
}

func (a *app) clockShow(ctx context.Context, c *cli.Command) error {
	if _, err := args(c, 0, 0); err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	var x api.ClockInfo
	if err := p.call(ctx, http.MethodGet, "/api/v1/clock", nil, nil, &x); err != nil {
		return err
	}
	return a.print(x, func() error { return a.printClock(x) })
}

func (a *app) clockRight(ctx context.Context, c *cli.Command) error {
	p, id, err := a.one(c)
	if err != nil {
		return err
	}
	if _, err := strconv.ParseInt(id, 10, 64); err != nil {
		return wrongUsage("%q is no number of a jump; spindle clock show lists them", id).see(c)
	}
	var x api.ClockInfo
	if err := p.call(ctx, http.MethodPost, "/api/v1/clock/jumps/"+id+"/right", nil,
		api.ClockAsk{WrongSince: c.String("wrong-since")}, &x); err != nil {
		return err
	}
	return a.print(x, func() error { return a.printClock(x) })
}

func (a *app) printClock(x api.ClockInfo) error {
	seconds := func(n float64) string { return (time.Duration(n * float64(time.Second))).Round(time.Second).String() }
	facts := [][2]string{{"Time", x.Now.Local().Format(time.DateTime)}}
	if x.Ahead != 0 {
		facts = append(facts, [2]string{"Process", seconds(x.Ahead) + " ahead of the database"})
	}
	if x.Behind > 0 {
		facts = append(facts, [2]string{"Database", "jumped back by " + seconds(x.Behind) + "; the time goes on"})
	}
	facts = append(facts, [2]string{"Rules by age", map[bool]string{true: "wait", false: "act"}[x.Waits]})
	if err := a.facts(facts); err != nil || len(x.Jumps) == 0 {
		return err
	}
	var rows [][]string
	for _, j := range x.Jumps {
		by := seconds(j.To.Sub(j.From).Seconds())
		rows = append(rows, []string{strconv.FormatInt(j.ID, 10), when(j.From), when(j.To), by, j.State, orDash(shown(j.By))})
	}
	fmt.Fprintln(a.Out)
	return a.table([]column{{"JUMP", true}, {"FROM", false}, {"TO", false}, {"BY", true}, {"STATE", false},
		{"SAID BY", false}}, rows)
}
