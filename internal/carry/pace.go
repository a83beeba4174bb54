package carry

import (
	"context"
	"io"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"spindle/internal/side"
)

const (
	paceBurst = 64 << 10    // bytes that are sent at once
	paceLooks = time.Second // how often the time of day is looked at
)

// pace holds a job to a rate that may be another at another time of day.
type pace struct {
	mu      sync.Mutex
	limiter *rate.Limiter
	looked  time.Time
}

// wait waits until so many bytes, up to paceBurst, may be sent.
func (p *pace) wait(ctx context.Context, at func(time.Time) int64, n int) error {
	p.mu.Lock()
	now := time.Now()
	if p.limiter == nil {
		p.limiter = rate.NewLimiter(rate.Inf, paceBurst)
	}
	if now.Sub(p.looked) > paceLooks {
		p.looked = now
		limit := rate.Inf
		if r := at(now); r > 0 {
			limit = rate.Limit(r)
		}
		if p.limiter.Limit() != limit {
			p.limiter.SetLimit(limit)
		}
	}
	p.mu.Unlock()
	return p.limiter.WaitN(ctx, n)
}

// paced holds what is read of a body to the job's rate.
func (j *Job) paced(b side.Body) side.Body {
	if j.Rate == nil {
		return b
	}
	return pacedBody{b, j}
}

type pacedBody struct {
	side.Body
	job *Job
}

// Range reads a range.
func (b pacedBody) Range(ctx context.Context, from, length int64) (io.ReadCloser, error) {
	r, err := b.Body.Range(ctx, from, length)
	if err != nil {
		return nil, err
	}
	return &pacedReader{r, ctx, b.job}, nil
}

type pacedReader struct {
	io.ReadCloser
	ctx context.Context
	job *Job
}

// Read reads as much as may be sent at once, when it may.
func (r *pacedReader) Read(p []byte) (int, error) {
	n, err := r.ReadCloser.Read(p[:min(len(p), paceBurst)])
	if n == 0 {
		return n, err
	}
	if werr := r.job.pace.wait(r.ctx, r.job.Rate, n); werr != nil {
		return 0, werr
	}
	return n, err
}
