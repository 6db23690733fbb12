package trial

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"vessik/internal/cms"
	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/walk"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
	"vessik/internal/picture"
	"vessik/internal/verify"
)

// pageTimeout bounds one page that is asked for.
const pageTimeout = 30 * time.Second

// sample asks a copy's pages, reads what PHP said meanwhile, and compares its front page with the site's own.
func (f *Feature) sample(ctx context.Context, w *operation.Part, source, s site.Site) error {
	trial, err := operation.Payload[plan.Trial](w)
	if err != nil {
		return err
	}
	base := f.Machine.URL(s)
	transport := &http.Transport{DialContext: verify.DialLoopback, TLSClientConfig: f.Machine.TLS()}
	defer transport.CloseIdleConnections()
	client := &http.Client{Transport: transport, Timeout: pageTimeout,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	visits := []plan.Visit{}
	for _, path := range append([]string{"/"}, trial.Visit...) {
		started := time.Now()
		response, text, err := cms.Page(ctx, client, "GET", base+path, nil)
		visit := plan.Visit{Path: path, Milliseconds: time.Since(started).Milliseconds(), Bytes: len(text)}
		if err == nil {
			visit.Status = response.StatusCode
		}
		visits = append(visits, visit)
	}
	messages := messagesOf(filepath.Join(f.Machine.Home.SiteLogs(s.Name), "php-error.log"), s.Folder)
	var different *float64
	if trial.Picture {
		comparison, err := f.Machine.Pictures.Compare(ctx, source.URL(f.Machine.Gateway()), s.URL(f.Machine.Gateway()))
		if err == nil {
			different = &comparison.Different
			err = cmp.Or(picture.Save(f.PictureFile(source.Name, w.ID(), source.Name), comparison.Model),
				picture.Save(f.PictureFile(source.Name, w.ID(), s.Name), comparison.Picture))
		}
		if err != nil {
			f.Machine.Log.Warn("picture", "site", s.Name, "reason", err)
		}
	}
	var walked *plan.CellWalk
	if trial.Walk {
		if walked, err = f.walk(ctx, w, source, s); err != nil {
			return fmt.Errorf("walk: %w", err)
		}
	}
	report := w.Newest()
	learn(w, func(c *plan.Cell) {
		c.Visits, c.Milliseconds, c.Messages, c.Different, c.Report = visits, visits[0].Milliseconds, messages, different, report
		c.Walked = walked
		c.Took = time.Since(s.CreatedAt).Milliseconds()
		c.Verdict, c.Summary = check.Pass, "passed"
		if report != nil {
			c.Summary = report.Summary()
			if report.Passed != nil && !*report.Passed {
				c.Verdict = check.Fail
			}
		}
		faults := faultsOf(visits, messages)
		if walked != nil && len(walked.Worse) > 0 {
			faults = append(faults, "worse pages: "+walk.Worst(walked.Worse))
		}
		if len(faults) > 0 {
			c.Verdict, c.Summary = check.Fail, strings.Join(faults, ", ")
		}
		if report != nil && report.Result("front-page").Verdict == check.Fail {
			c.Different = nil // it shows an error, which is another page altogether
		}
	})
	return nil
}

// faultsOf are all pages that do not answer, and what PHP ended with.
func faultsOf(visits []plan.Visit, messages []plan.Message) (faults []string) {
	for _, visit := range visits {
		switch {
		case visit.Status == 0:
			faults = append(faults, visit.Path+" does not answer")
		case visit.Status >= 500:
			faults = append(faults, fmt.Sprintf("%s answers %d", visit.Path, visit.Status))
		}
	}
	for _, message := range messages {
		if strings.Contains(message.Level, "Fatal") || strings.Contains(message.Level, "Parse") {
			faults = append(faults, fmt.Sprintf("%s in %s", message.Level, message.Where))
		}
	}
	return faults
}

// trialsPictured is how many trials of a site keep their pictures.
const trialsPictured = 5

// PictureFile is where a trial keeps the picture of a copy, or of the site itself by its name.
func (f *Feature) PictureFile(source, operation, name string) string {
	return f.Machine.Home.Path("pictures", source, operation, name+".jpg")
}

// PictureOf is the picture that a trial took of a copy, or of the site itself; ok is false where the trial has none of that name.
func (f *Feature) PictureOf(ctx context.Context, id, name string) (file string, ok bool) {
	trial, err := operation.PayloadOf[plan.Trial](ctx, f.Operations, id)
	ok = err == nil && trial.Site != "" &&
		(name == trial.Site || slices.ContainsFunc(trial.Cells, func(cell plan.Cell) bool { return cell.Copy == name }))
	return f.PictureFile(trial.Site, id, name), ok
}

// makeRoomForPictures prepares the folder of a new trial's pictures, and forgets those of old trials.
func (f *Feature) makeRoomForPictures(source, operation string) error {
	dir := f.Machine.Home.Path("pictures", source)
	if older, err := ownfile.List(dir); err == nil {
		slices.SortFunc(older, func(a, b os.DirEntry) int { return site.CompareVersions(b.Name(), a.Name()) })
		for _, each := range older[min(len(older), trialsPictured-1):] {
			ownfile.RemoveAll(filepath.Join(dir, each.Name()))
		}
	}
	return ownfile.Make(filepath.Join(dir, operation), 0o700)
}

var phpMessage = regexp.MustCompile(`^\[[^\]]+\] PHP (Fatal error|Parse error|` +
	`Warning|Notice|Deprecated|Strict Standards|Recoverable fatal error|` +
	`User [a-z]+|[A-Z][a-z ]+):\s+(.*?)(?: in (\S+?)(?: on line |:)(\d+))?$`)

// messagesOf counts what PHP wrote into its log, the most severe and frequent first.
func messagesOf(log, folder string) []plan.Message {
	messages := []plan.Message{}
	text, err := ownfile.Read(log)
	if err != nil {
		return messages
	}
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		match := phpMessage.FindStringSubmatch(lines.Text())
		if match == nil {
			continue
		}
		where := ""
		if match[3] != "" {
			where = strings.TrimPrefix(match[3], folder+"/") + ":" + match[4]
		}
		i := slices.IndexFunc(messages, func(m plan.Message) bool { return m.Level == match[1] && m.Text == match[2] && m.Where == where })
		if i < 0 {
			messages = append(messages, plan.Message{Level: match[1], Text: match[2], Where: where})
			i = len(messages) - 1
		}
		messages[i].Count++
	}
	rank := func(m plan.Message) int {
		return slices.Index([]string{"Fatal error", "Parse error", "Warning", "Notice", "Deprecated"}, m.Level)
	}
	slices.SortStableFunc(messages, func(a, b plan.Message) int {
		return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(b.Count, a.Count))
	})
	return messages[:min(len(messages), 200)]
}
