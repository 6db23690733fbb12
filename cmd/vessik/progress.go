package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"time"
	"unicode/utf8"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
	"golang.org/x/term"

	"vessik/client"
	"vessik/internal/core/site"
)

func sorted(words []string) []string { return slices.Sorted(slices.Values(words)) }

// follow shows an operation as it goes: on a terminal a line a site, elsewhere a line whenever a site comes to another step. An
// interrupt asks the service to cancel it and waits until it has been taken back.
func (c *call) follow(ctx context.Context, service *client.Client, operation client.Operation) (client.Watched, error) {
	see, done := plainProgress(tame("", os.Stderr))
	if *c.json {
		see, done = func(client.Watched) {}, func() {}
	} else if term.IsTerminal(int(os.Stderr.Fd())) {
		see, done = liveProgress(operation)
	}
	watching := context.WithoutCancel(ctx)
	stop := context.AfterFunc(ctx, func() {
		fmt.Fprintln(os.Stderr, "cancelling; what was begun is taken back")
		service.Cancel(watching, operation.ID)
	})
	defer stop()
	watched, err := service.Watch(watching, operation.ID, see)
	done()
	if err != nil {
		return watched, err
	}
	for _, part := range watched.Sites {
		if part.Problem != "" {
			fmt.Fprintf(tame("", os.Stderr), "%s: %s\n", site.Shown(part.Site), part.Problem)
		}
	}
	return watched, nil
}

// activity says what is being done for a site.
func activity(watched client.Watched, site string) string {
	for _, part := range watched.Sites {
		switch {
		case part.Site != site:
		case part.State == "running":
			doing := watched.Activity[site]
			switch {
			case doing.Text == "":
				return "waiting"
			case doing.Fraction > 0:
				return fmt.Sprintf("%s %d%%", doing.Text, int(doing.Fraction*100))
			}
			return doing.Text
		case part.Report != nil:
			return part.Report.Summary()
		default:
			return string(part.State)
		}
	}
	return ""
}

func plainProgress(out io.Writer) (see func(client.Watched), done func()) {
	last := map[string]string{}
	return func(watched client.Watched) {
		for _, part := range watched.Sites {
			text := watched.Activity[part.Site].Text
			if part.State != "running" {
				text = activity(watched, part.Site)
			}
			if text != "" && text != last[part.Site] {
				last[part.Site] = text
				fmt.Fprintf(out, "%s: %s\n", site.Shown(part.Site), text)
			}
		}
	}, func() {}
}

func liveProgress(operation client.Operation) (see func(client.Watched), done func()) {
	progress := mpb.New(mpb.WithOutput(os.Stderr), mpb.WithRefreshRate(80*time.Millisecond))
	current := client.Watched{Operation: operation}
	now := make(chan client.Watched, 1)
	now <- current
	latest := func() client.Watched {
		w := <-now
		now <- w
		return w
	}
	bars := map[string]*mpb.Bar{}
	width := 0
	for _, part := range operation.Sites {
		width = max(width, utf8.RuneCountInString(site.Shown(part.Site)))
	}
	for _, part := range operation.Sites {
		name := part.Site
		bars[name] = progress.New(int64(max(len(part.Steps), 1)), mpb.NopStyle(), mpb.PrependDecorators(
			decor.Name(site.Shown(name), decor.WC{W: width + 2, C: decor.DindentRight}),
			decor.Any(func(decor.Statistics) string { return activity(latest(), name) }, decor.WC{W: 28, C: decor.DindentRight}),
			decor.Elapsed(decor.ET_STYLE_GO)))
	}
	return func(watched client.Watched) {
			<-now
			now <- watched
			for _, part := range watched.Sites {
				finished := 0
				for _, step := range part.Steps {
					if step.State == "done" {
						finished++
					}
				}
				if part.State != "running" {
					bars[part.Site].SetCurrent(int64(max(len(part.Steps), 1)))
				} else {
					bars[part.Site].SetCurrent(int64(min(finished, len(part.Steps)-1)))
				}
			}
		}, func() {
			for _, bar := range bars {
				bar.Abort(false)
			}
			progress.Wait()
		}
}

// outcome turns how an operation ended into how the command exits.
func outcome(watched client.Watched) error {
	failed := errors.Join()
	if change := changeOf(watched); change.WentBack && len(change.Worse) > 0 {
		return exitCode(exitCheckFailed)
	}
	for _, part := range watched.Sites {
		if part.State != "done" {
			return exitCode(exitFailed)
		}
		if part.Report != nil && part.Report.Passed != nil && !*part.Report.Passed {
			failed = exitCode(exitCheckFailed)
		}
	}
	return failed
}
