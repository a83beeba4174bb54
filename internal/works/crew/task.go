package crew

import (
	"context"
	"time"

	"golang.org/x/sync/errgroup"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
)

// TaskKind is a kind of tasks: many small things to do, each about one subject and
// not before a time.
type TaskKind struct {
	Name  string
	Batch int // tasks that are claimed together; default 64

	// Do does one task, under a claim that lasts as long as a lease. It can be done
	// twice, and looks at what is there now. A fault that is unavailable or internal
	// has the task come round again, later each time; after any other it has to end by
	// itself: Do notes what went wrong and gives nil.
	Do func(context.Context, catalog.Task) error
}

// RunTasks does the tasks of a kind that are due, in batches, until none is, and says
// how many were done.
func (c *Crew) RunTasks(ctx context.Context, k TaskKind) (done int, err error) {
	batch := k.Batch
	if batch == 0 {
		batch = 64
	}
	for ctx.Err() == nil {
		tasks, err := c.Store.Catalog.ClaimTasks(ctx, k.Name, batch, c.Settings.Lease)
		if err != nil || len(tasks) == 0 {
			return done, err
		}
		n, err := c.runTasks(ctx, k, tasks)
		done += n
		if err != nil {
			return done, err
		}
	}
	return done, ctx.Err()
}

func (c *Crew) runTasks(ctx context.Context, k TaskKind, tasks []catalog.Task) (done int, err error) {
	within, cancel := context.WithTimeout(ctx, c.Settings.Lease*2/3) // what is not done by then is left to the next claim
	defer cancel()
	ended := make([]bool, len(tasks))
	var g errgroup.Group
	g.SetLimit(8)
	for i, t := range tasks {
		g.Go(func() error {
			err := k.Do(within, t)
			if err == nil {
				ended[i] = true
				return nil
			}
			if ctx.Err() != nil {
				return nil // it is claimed again when the claim has run out
			}
			f := fault.From(err)
			c.Log.Debug("a task failed and will be tried again", "kind", k.Name, "task", t.ID, "attempts", t.Attempts+1, "error",
				err)
			return c.Store.Catalog.DelayTask(ctx, t, Pause(t.Attempts), f.Message)
		})
	}
	err = g.Wait()
	for i, t := range tasks {
		if !ended[i] {
			continue
		}
		saving, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		terr := c.Store.Catalog.TasksDone(saving, []catalog.Task{t})
		cancel()
		switch {
		case terr == nil:
			done++
		case !fault.HasCode(terr, "lease-lost") && err == nil:
			err = terr
		}
	}
	return done, err
}
