//go:build failpoints

package operation

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"time"

	"vessik/internal/core/plan"
)

// points is the folder in which a test says what is to happen where: a file KIND.SITE.STEP.WHEN whose text is "fail", "cancel" or "hold".
// It is gone once the place is reached; one at which the service is held is renamed to end with .held, until that is taken away.
var points = os.Getenv("VESSIK_FAILPOINTS")

// point is a place before or after a piece of work.
func (o *Operation) point(name string, step plan.Step, when string) error {
	path := filepath.Join(points, fmt.Sprintf("%s.%s.%s.%s", o.kind.Name, name, step, when))
	text, err := os.ReadFile(path)
	if points == "" || err != nil {
		return nil
	}
	switch string(text) {
	case "fail":
		return errors.Join(errors.New("a failpoint"), os.Remove(path))
	case "cancel":
		o.cancel()
		return errors.Join(os.Remove(path), o.ctx.Err())
	}
	if err := os.Rename(path, path+".held"); err != nil {
		return err
	}
	if bytes.Contains(debug.Stack(), []byte("(*Operation).steps(")) {
		<-o.r.slots // its own: those that are held must not keep others from their places
		defer func() { o.r.slots <- struct{}{} }()
	}
	for { // until it is killed, asked to end, or let go on
		select {
		case <-o.ctx.Done():
			return o.ctx.Err()
		case <-time.After(pointPause):
		}
		if _, err := os.Stat(path + ".held"); errors.Is(err, os.ErrNotExist) {
			return nil
		}
	}
}

const pointPause = 10 * time.Millisecond

// listKinds lists the kinds and their steps for the test, which must know all of them.
func (r *Runner) listKinds() {
	if points == "" {
		return
	}
	var text strings.Builder
	for _, kind := range r.kinds {
		fmt.Fprintf(&text, "%s", kind.Name)
		for _, step := range kind.Steps {
			fmt.Fprintf(&text, " %s", step.Name)
		}
		fmt.Fprintln(&text)
	}
	if err := os.WriteFile(filepath.Join(points, "kinds"), []byte(text.String()), 0o644); err != nil {
		panic(err)
	}
}
