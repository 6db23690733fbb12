package verify

import (
	"context"
	"time"

	"vessik/internal/core/site"
)

// Silence carries out a piece of work while a running site is asked without pause, and returns the longest time without an answer.
func (v *Verifier) Silence(ctx context.Context, s site.Site, work func() error) (longest time.Duration, err error) {
	if s.State != site.Running {
		return 0, work()
	}
	i, done := v.inspect(ctx, s)
	defer done()
	i.transport.DisableKeepAlives = true
	i.client.Timeout = time.Minute
	worked, asked := make(chan struct{}), make(chan time.Duration)
	go func() { asked <- i.askUntil(worked) }()
	err = work()
	close(worked)
	return <-asked, err
}

const (
	silenceLook  = 2 * time.Millisecond // between two answers
	silenceGrace = 5 * time.Second      // for an answer after the work is done
)

// askUntil asks until something is done, and once more.
func (i *inspection) askUntil(worked <-chan struct{}) (longest time.Duration) {
	look := time.NewTicker(silenceLook)
	defer look.Stop()
	last := time.Now()
	for final := false; ; {
		_, _, err := i.askProbe(i.base, probeAsk{})
		if err != nil && i.readdressed() {
			_, _, err = i.askProbe(i.base, probeAsk{})
		}
		if silence := time.Since(last); err == nil || final && silence > silenceGrace {
			longest, last = max(longest, silence), time.Now()
			if final {
				return longest
			}
		}
		select {
		case <-worked:
			if !final { // one more, whatever became of the work
				ctx, end := context.WithTimeout(context.WithoutCancel(i.ctx), 2*silenceGrace)
				defer end()
				i.ctx, final = ctx, true
			}
		default:
		}
		if i.ctx.Err() != nil {
			return longest
		}
		<-look.C
	}
}

// readdressed follows a site to its new address, and tells whether it has one: what is done to it may be just that.
func (i *inspection) readdressed() bool {
	s, ok := i.v.Machine.Registry.Site(i.site.Name)
	base := s.URL(i.v.Machine.Gateway())
	if !ok || base == i.base {
		return false
	}
	i.site, i.base = s, base
	return true
}
