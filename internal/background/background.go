// Package background owns what runs beside requests: it is begun only while the service lives, told when the service ends, and waited
// for.
package background

import (
	"context"
	"sync"
	"time"
)

// Work is what runs in the background of one service.
type Work struct {
	mu    sync.Mutex
	group sync.WaitGroup
	ctx   context.Context
	end   context.CancelFunc
}

// New returns work that ends with End alone, not with the given context.
func New(ctx context.Context) *Work {
	w := &Work{}
	w.ctx, w.end = context.WithCancel(context.WithoutCancel(ctx))
	return w
}

// Context ends with the service.
func (w *Work) Context() context.Context { return w.ctx }

// Ending tells whether nothing is to be begun any more.
func (w *Work) Ending() bool { return w.ctx.Err() != nil }

// Go has something done, for which Wait waits; nothing is begun any more once the service ends.
func (w *Work) Go(do func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if !w.Ending() {
		w.group.Go(do)
	}
}

// End tells all that runs to end, and begins nothing any more.
func (w *Work) End() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.end()
}

// Wait returns when everything has ended.
func (w *Work) Wait() { w.group.Wait() }

// Every does something again and again until a context ends.
func Every(ctx context.Context, pause time.Duration, do func()) {
	next := time.NewTicker(pause)
	defer next.Stop()
	for {
		select {
		case <-next.C:
			do()
		case <-ctx.Done():
			return
		}
	}
}
