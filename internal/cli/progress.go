package cli

import (
	"io"
	"maps"
	"slices"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
)

// sortedKeys gives the keys of a map in order.
func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// thread is our look of a bar: what is done is a line up to a bead.
func thread() mpb.BarStyleComposer {
	return mpb.BarStyle().Lbound("").Filler("━").Tip("●").Padding("·").Rbound("")
}

// bar counts things on a terminal; elsewhere it is silent. How many there are is not
// always known: then it counts without a line.
type bar struct {
	p *mpb.Progress
	b *mpb.Bar
}

func (a *app) bar(what string, total int64) bar {
	if !a.Terminal || a.json {
		return bar{}
	}
	p := mpb.New(mpb.WithOutput(a.raw.Err), mpb.WithWidth(40), mpb.WithRefreshRate(120*time.Millisecond))
	if total == 0 {
		return bar{p, p.New(0, mpb.NopStyle(), mpb.PrependDecorators(decor.Name(what+"  "),
			decor.CurrentNoUnit("%d objects")))}
	}
	b := p.New(total, thread(), mpb.PrependDecorators(decor.Name(what+"  ")),
		mpb.AppendDecorators(decor.CountersNoUnit("  %d of %d objects")))
	return bar{p, b}
}

func (b bar) at(n int64) {
	if b.b != nil {
		b.b.SetCurrent(n)
	}
}

func (b bar) stop() {
	if b.b != nil {
		b.b.Abort(false)
		b.p.Wait()
	}
}

// meter is a transfer.Progress that shows transfers: a line for each file under way and a total.
type meter struct {
	p     *mpb.Progress
	total *mpb.Bar
}

func (a *app) meter(files int, bytes int64) *meter {
	if !a.Terminal || a.json {
		return &meter{}
	}
	m := &meter{p: mpb.New(mpb.WithOutput(a.raw.Err), mpb.WithWidth(32), mpb.WithRefreshRate(120*time.Millisecond))}
	m.total = m.p.New(bytes, thread(), mpb.BarPriority(1<<20),
		mpb.PrependDecorators(decor.Name("all  ", decor.WC{W: 34, C: decor.DindentRight})),
		mpb.AppendDecorators(decor.CountersKibiByte("  % .1f of % .1f"), decor.AverageSpeed(decor.SizeB1024(0), "  % .1f"),
			decor.Name("  "), decor.AverageETA(decor.ET_STYLE_GO)))
	return m
}

// Begin gives a reader that shows how far a file is; done ends its line.
func (m *meter) Begin(name string, n int64, r io.Reader) (read io.Reader, done func()) {
	if m.p == nil {
		return r, func() {}
	}
	short := []rune(shown(name))
	if len(short) > 32 { // keep both ends
		short = slices.Concat(short[:14], []rune("…"), short[len(short)-17:])
	}
	b := m.p.New(n, thread(), mpb.BarRemoveOnComplete(),
		mpb.PrependDecorators(decor.Name(string(short), decor.WC{W: 34, C: decor.DindentRight})),
		mpb.AppendDecorators(decor.CountersKibiByte("  % .1f of % .1f"), decor.AverageSpeed(decor.SizeB1024(0), "  % .1f")))
	return &metered{r, b, m.total}, func() { b.Abort(true) }
}

type metered struct {
	r     io.Reader
	b     *mpb.Bar
	total *mpb.Bar
}

func (m *metered) Read(p []byte) (int, error) {
	n, err := m.r.Read(p)
	m.b.IncrBy(n)
	m.total.IncrBy(n)
	return n, err
}

// Skip counts bytes that need not be moved.
func (m *meter) Skip(n int64) {
	if m.total != nil {
		m.total.IncrInt64(n)
	}
}

func (m *meter) stop() {
	if m.p != nil {
		m.total.Abort(false)
		m.p.Wait()
	}
}
