package cli

import (
	"context"
	"fmt"
	"net/url"

	"github.com/urfave/cli/v3"

	"spindle/internal/api"
)

// replicationVerify has the service compare both sides and tells of each difference as
// it is found.
func (a *app) replicationVerify(ctx context.Context, c *cli.Command) error {
	p, name, err := a.one(c)
	if err != nil {
		return err
	}
	different := false
	bar := a.bar("compared", 0)
	var failed error
	in := api.VerifyAsk{Deep: c.Bool("deep"), Repair: c.Bool("repair"), After: c.String("after")}
	if s := c.String("most"); s != "" {
		most, err := parseSize("most", s)
		if err != nil {
			return err
		}
		if most != nil {
			in.Most = *most
		}
	}
	err = stream(ctx, p, replicationsPath+url.PathEscape(name)+"/verify", in, func(s api.VerifyStep) error {
		if a.json && s.Progress == nil {
			if err := a.print(s, nil); err != nil {
				return err
			}
		}
		switch {
		case s.Problem != nil:
			failed = s.Problem.Fault()
			a.note("%s could not be compared.", shown(s.Target))
		case s.Progress != nil && c.Bool("deep"):
			bar.at(s.Progress.Read)
		case s.Progress != nil:
			bar.at(s.Progress.Objects)
		case s.Difference != nil && !a.json:
			fmt.Fprintf(a.Out, "%-8s %s  %s\n", s.Difference.What, shown(s.Target+": "+s.Difference.Key), s.Difference.Says)
		case s.Result != nil:
			different = different || !s.Result.Good
			return a.tellVerified(s)
		}
		return nil
	})
	bar.stop()
	switch {
	case err != nil:
		return err
	case failed != nil:
		return failed
	case different && c.Bool("check"):
		return exitOnly(ExitDifferent)
	}
	return nil
}

func (a *app) tellVerified(s api.VerifyStep) error {
	if a.json {
		return nil
	}
	r := s.Result
	says := fmt.Sprintf("%s: %s compared, %s", shown(s.Target), things(r.Objects, "object", "objects"), size(r.Bytes))
	if r.Read > 0 {
		says += fmt.Sprintf(", %s read back", size(r.Read))
	}
	if r.Missing+r.Other == 0 {
		says += "; all there as they are"
	} else {
		says += fmt.Sprintf("; %s missing, %s another", count(r.Missing), count(r.Other))
	}
	if r.Accepted > 0 {
		says += fmt.Sprintf("; %s accepted as they are there", count(r.Accepted))
	}
	if r.Waiting > 0 {
		says += fmt.Sprintf("; %s wait to be copied", count(r.Waiting))
	}
	if r.Extra > 0 {
		says += fmt.Sprintf("; %s there alone", count(r.Extra))
	}
	if r.Repaired > 0 {
		says += fmt.Sprintf("; %s copied again", things(r.Repaired, "is", "are"))
	}
	if !r.Deep {
		says += ". Bytes were not read back: --deep does that"
	}
	if r.Next != "" {
		says += ". As many bytes as were wanted are read: go on with --after " + shown(r.Next)
	}
	_, err := fmt.Fprintln(a.Out, says+".")
	return err
}
