package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"

	"github.com/urfave/cli/v3"

	"spindle/internal/core/fault"
	"spindle/internal/wire/sign"
)

func (a *app) measureCommand() *cli.Command {
	return &cli.Command{Name: "measure", Usage: "profile the service's process: its time and memory",
		ArgsUsage: "KIND FILE",
		Description: "KIND is cpu, heap, allocs or goroutine. Only for operators, on the machine of the service; the file is read by go tool pprof.\n\n" +
			examples("spindle measure cpu cpu.prof --seconds 30", "spindle measure heap heap.prof"),
		Flags: []cli.Flag{&cli.IntFlag{Name: "seconds", Value: 10,
			Usage: "how long to profile the processor, 1 to 120"}},
		Action: a.measure}
}

func (a *app) measure(ctx context.Context, c *cli.Command) error {
	in, err := args(c, 2, 2)
	if err != nil {
		return err
	}
	p, err := a.open(c)
	if err != nil {
		return err
	}
	q := url.Values{"seconds": {strconv.Itoa(c.Int("seconds"))}}
	resp, err := p.open(ctx, http.MethodGet, "/api/v1/profiles/"+url.PathEscape(in[0]), q, nil, sign.EmptyHash, "")
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	f, err := os.Create(in[1])
	if err != nil {
		return fault.New(fault.Invalid, "file", "%s cannot be written", in[1]).In("file").Because(err)
	}
	_, err = io.Copy(f, resp.Body)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	return a.print(map[string]string{"file": in[1]}, func() error {
		_, err := fmt.Fprintf(a.Out, "Written to %s: go tool pprof -top bin/spindle %s reads it.\n", in[1], in[1])
		return err
	})
}
