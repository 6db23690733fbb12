package moving

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"vessik/internal/hosting"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
)

// How often a line that was cut is taken up again, and how long is waited before.
const (
	tries      = 6
	triesInAll = 200
	pause      = 300 * time.Millisecond
)

// carry brings files into the mirror, many at a time. What has come before the line was cut is not carried again.
// left are files that could not be read, or were gone.
func (v *visit) carry(ctx context.Context, w *operation.Part, m mirror, files []hosting.Entry, bytes int64) (left []string, err error) {
	load := &load{queue: queue[hosting.Entry]{items: files}, carried: carried{tell: func(done int64) {
		w.Progress("fetching files", min(float64(done)/float64(max(bytes, 1)), 1))
	}}}
	err = v.insist(ctx, w, &load.bytes, func() error { return load.some(ctx, v.line, m) })
	return load.left, err
}

// insist does something again on a new line where the line was cut, as long as it gets on.
func (v *visit) insist(ctx context.Context, w *operation.Part, bytes *atomic.Int64, do func() error) error {
	for try, all := 1, 1; ; try, all = try+1, all+1 {
		before := bytes.Load()
		err := do()
		if err == nil || ctx.Err() != nil || !hosting.Cut(err) {
			return err
		}
		if bytes.Load() > before {
			try = 1
		}
		if try >= tries || all >= triesInAll {
			return fmt.Errorf("the line was cut again and again: %w", err)
		}
		w.Progress("the line was cut: connecting again", -1)
		if err := v.reconnect(ctx, try); err != nil {
			return err
		}
	}
}

// queue is what is still to be done, by whom ever has time.
type queue[T any] struct {
	mu    sync.Mutex
	items []T
}

func (q *queue[T]) next() (item T, ok bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if len(q.items) == 0 {
		return item, false
	}
	item, q.items = q.items[0], q.items[1:]
	return item, true
}

func (q *queue[T]) back(item T) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.items = append(q.items, item)
}

// reconnect waits a while, and connects again.
func (v *visit) reconnect(ctx context.Context, try int) error {
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(try) * pause):
		}
		err := v.again(ctx)
		if err == nil || !hosting.Cut(err) || try >= tries {
			return err
		}
		try++
	}
}

// load is files on their way.
type load struct {
	queue[hosting.Entry]
	carried
	left []string // that could not be read, or were gone
}

func (l *load) leave(path string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.left = append(l.left, path)
}

// some carries files until all are here, or something fails.
func (l *load) some(ctx context.Context, line hosting.Line, m mirror) error {
	group, ctx := errgroup.WithContext(ctx)
	for range line.Parallel() {
		group.Go(func() error {
			for {
				e, ok := l.next()
				if !ok || ctx.Err() != nil {
					if ok {
						l.back(e)
					}
					return ctx.Err()
				}
				err := m.take(e, func(to io.Writer, from int64) error {
					return line.Read(ctx, e.Path, from, io.MultiWriter(to, l.watched()))
				})
				if errors.Is(err, errOther) {
					return fmt.Errorf("%s: %w; fetch it again", e.Path, errOther)
				}
				if hosting.Unreadable(err) {
					l.leave(e.Path)
					continue
				}
				if err != nil {
					l.back(e)
					return fmt.Errorf("fetch %s: %w", e.Path, err)
				}
			}
		})
	}
	return group.Wait()
}

// carried is how much went over the line, whoever carried it.
type carried struct {
	bytes atomic.Int64
	tell  func(bytes int64)
}

// watched counts what is written to it.
func (c *carried) watched() io.Writer { return &watching{c, often{tell: c.tell}} }

type watching struct {
	of   *carried
	told often
}

func (w *watching) Write(text []byte) (int, error) {
	w.told.now(w.of.bytes.Add(int64(len(text))))
	return len(text), nil
}

// often tells ten times a second at the most.
type often struct {
	tell func(bytes int64)
	last time.Time
}

func (o *often) now(bytes int64) {
	if time.Since(o.last) > 100*time.Millisecond {
		o.last = time.Now()
		o.tell(bytes)
	}
}

// sumOf is the SHA-256 of a file in hexadecimal digits.
func sumOf(folder, path string) (string, error) {
	file, err := ownfile.Open(filepath.Join(folder, filepath.FromSlash(path)))
	if err != nil {
		return "", err
	}
	defer file.Close()
	return sumAll(file)
}

func sumAll(from io.Reader) (string, error) {
	sum := sha256.New()
	if _, err := io.Copy(sum, from); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// touch gives a file of the mirror the time that it has at the host.
func (m mirror) touch(e hosting.Entry) error {
	return ownfile.Touch(filepath.Join(m.files(), filepath.FromSlash(e.Path)), e.Modified)
}

// replace puts a text in the place of one that came.
func (m mirror) replace(path string, text []byte) error {
	to := filepath.Join(m.incoming(), filepath.FromSlash(path))
	if err := ownfile.Make(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	return ownfile.Write(to, text, 0o600)
}
