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
	tries = 6
	pause = 300 * time.Millisecond
)

// carry brings files into the mirror, many at a time. What has come before the line was cut is not carried again.
func (v *visit) carry(ctx context.Context, w *operation.Part, m mirror, files []hosting.Entry, bytes int64) error {
	load := &load{files: files, tell: func(done int64) {
		w.Progress("fetching files", min(float64(done)/float64(max(bytes, 1)), 1))
	}}
	for try := 1; ; try++ {
		before := load.bytes.Load()
		err := load.some(ctx, v.line, m)
		if err == nil || ctx.Err() != nil || !hosting.Cut(err) {
			return err
		}
		if load.bytes.Load() > before {
			try = 1 // it gets on
		}
		if try >= tries {
			return fmt.Errorf("the line was cut again and again: %w", err)
		}
		w.Progress("the line was cut: connecting again", -1)
		if err := v.reconnect(ctx, try); err != nil {
			return err
		}
	}
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
	mu    sync.Mutex
	files []hosting.Entry // that are still to come
	bytes atomic.Int64
	tell  func(bytes int64)
}

func (l *load) next() (e hosting.Entry, ok bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.files) == 0 {
		return e, false
	}
	e, l.files = l.files[0], l.files[1:]
	return e, true
}

func (l *load) back(e hosting.Entry) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.files = append(l.files, e)
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
				err := m.take(e, func(to io.Writer) error {
					return line.Read(ctx, e.Path, 0, &watched{to: to, load: l, told: often{tell: l.tell}})
				})
				if errors.Is(err, errOther) {
					return fmt.Errorf("%s: %w; fetch it again", e.Path, errOther)
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

// watched counts what is written of what is to come.
type watched struct {
	to   io.Writer
	load *load
	told often
}

func (w *watched) Write(text []byte) (int, error) {
	n, err := w.to.Write(text)
	w.told.now(w.load.bytes.Add(int64(n)))
	return n, err
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
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
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
	return ownfile.Write(filepath.Join(m.incoming(), filepath.FromSlash(path)), text, 0o600)
}
