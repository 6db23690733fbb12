package provision

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/kit"
	"vessik/internal/picture"
	"vessik/internal/records"
)

// Trial asks for one site to be tried on many stacks. Lists are parts of engine ids, joined by commas, or "all"; an empty one is the
// site's own engine.
type Trial struct {
	PHP, Web, Database string
	Visit              []string
	Keep               bool
	NoPicture          bool
}

// mostCells bounds one trial.
const mostCells = 60

// StartTrial draws a temporary copy of a site for every combination of engines, and has each verified.
func (p *Provisioner) StartTrial(ctx context.Context, name string, t Trial) (records.Operation, error) {
	p.requests.Lock()
	defer p.requests.Unlock()
	source, ok := p.Site(name)
	if !ok {
		return records.Operation{}, noSite(name)
	}
	problems := site.Problems{}
	if source.State != site.Running {
		problems = append(problems, site.Problem{Site: name, Field: "name", Message: "the site is " + string(source.State), Remedy: "start it first: vessik start " + name})
	}
	facts := p.facts()
	lists := map[string][]string{}
	for _, part := range []struct{ kind, list, own string }{{"php", t.PHP, source.Stack.PHP}, {"web", t.Web, source.Stack.Web}, {"database", t.Database, source.Stack.Database}} {
		if strings.TrimSpace(part.list) == "" {
			lists[part.kind] = []string{part.own}
			continue
		}
		ids, err := site.MatchEngines(facts.Engines[part.kind], part.list)
		if err != nil {
			problems = append(problems, site.Problem{Site: name, Field: part.kind, Message: err.Error(), Remedy: "see the engines with: vessik engines, or write all"})
		}
		lists[part.kind] = ids
	}
	for _, path := range t.Visit {
		if !strings.HasPrefix(path, "/") || strings.ContainsAny(path, " \r\n") {
			problems = append(problems, site.Problem{Site: name, Field: "visit", Message: fmt.Sprintf("%q is not an address of the site", path), Remedy: "write it as /path"})
		}
	}
	stacks := []site.Stack{}
	for _, database := range lists["database"] {
		for _, web := range lists["web"] {
			for _, php := range lists["php"] {
				stacks = append(stacks, site.Stack{PHP: php, Web: web, Database: database})
			}
		}
	}
	if len(stacks) > mostCells {
		problems = append(problems, site.Problem{Site: name, Field: "php", Message: fmt.Sprintf("that makes %d combinations, and %d is the most", len(stacks), mostCells), Remedy: "name fewer engines"})
	}
	if len(problems) > 0 {
		return records.Operation{}, problems
	}
	trial := plan.Trial{Site: name, Visit: append([]string{}, t.Visit...), Keep: t.Keep, Picture: !t.NoPicture && picture.Browser() != "", Cells: []plan.Cell{}}
	copies, names, plans := []site.Site{}, []string{}, map[string][]plan.Step{}
	stem := name[:min(len(name), 45)]
	for n, stack := range stacks {
		c := source
		for number := n + 1; ; number++ {
			if c.Name = fmt.Sprintf("%s-trial-%d", stem, number); !slices.ContainsFunc(facts.Sites, func(s site.Site) bool { return s.Name == c.Name }) {
				break
			}
		}
		c.Origin, c.Touches = site.Origin{Kind: site.FromSite, From: name}, nil
		c.State, c.Reason, c.TrialOf, c.Stack = site.Provisioning, "", name, stack
		c.Domain, c.Folder, c.Port, c.PortPinned = c.Name+".localhost", p.Home.path("sites", c.Name), site.FreePort(facts), false
		token := randomHex(6)
		c.Database = site.Database{Name: "trial_" + token, User: "trial_" + token, Password: kit.Password()}
		c.Probe, c.CreatedAt = randomHex(16), time.Now().UTC().Truncate(time.Millisecond)
		values := map[string]string{}
		for key, value := range source.Settings.PHP {
			values[key] = value
		}
		values["error_reporting"], values["log_errors"] = "32767", "On" // everything that PHP has to say
		c.Settings.PHP, c.Settings.Debug = values, false
		if c.Port == 0 {
			return records.Operation{}, site.Problems{{Site: name, Field: "port", Message: "no port is left for the copies", Remedy: "name fewer engines"}}
		}
		facts.Sites = append(slices.Clone(facts.Sites), c)
		copies, names = append(copies, c), append(names, c.Name)
		plans[c.Name] = plan.ForTrial(p.missing(c), t.Keep)
		cell := plan.Cell{Copy: c.Name, Stack: stack, Verdict: check.Skip, Summary: "waits", Visits: []plan.Visit{}, Messages: []plan.Message{}}
		if known, warning := supportWords(p.Kits(), c.Kit, stack.PHP); warning != "" {
			cell.Supported = known
		}
		trial.Cells = append(trial.Cells, cell)
	}
	if problems := p.hold(copies); problems != nil {
		return records.Operation{}, problems
	}
	operation, err := p.begin(ctx, records.Operation{Kind: plan.TryOut, Trial: &trial}, copies, names, plans)
	if err != nil {
		p.letGo(names...)
		return operation, err
	}
	if trial.Picture {
		err = p.makeRoomForPictures(name, operation.ID)
	}
	return operation, err
}

// doTrial carries out the steps in which a trial's copy differs from a new site.
func (p *Provisioner) doTrial(o *operation, s site.Site, step plan.Step, note func(string)) (done bool, err error) {
	ctx := o.ctx
	source, ok := p.Site(s.TrialOf)
	if !ok && (step == plan.LayOut || step == plan.LoadContent) {
		return true, fmt.Errorf("the site %s is gone", s.TrialOf)
	}
	switch step {
	case plan.LayOut:
		o.cell(s.Name, func(c *plan.Cell) { c.Summary = "being tried" })
		return true, p.layOut(ctx, o.recorded.ID, s, kit.TreeBytes(source.Folder), note, func(partial string) error { return p.copySite(ctx, source, partial) })
	case plan.Configure:
		database, err := p.database(ctx, s.Stack.Database)
		if err != nil {
			return true, err
		}
		return true, errors.Join(p.kitOf(s).Reconfigure(s.Folder, s.Database, database.Port), p.kitOf(s).Redomain(s.Folder, p.kitFacts(s)))
	case plan.LoadContent:
		return true, p.copyContent(ctx, source, s)
	case plan.Publish:
		return true, p.publish(ctx, []string{s.Name})[s.Name]
	case plan.Withdraw:
		return true, p.withdraw(ctx, []string{s.Name})[s.Name]
	case plan.Sample:
		if err := p.sample(ctx, o, source, s); err != nil {
			return true, err
		}
		if o.Snapshot().Trial.Keep {
			return true, p.change(ctx, s.Name, func(s *site.Site) error { s.TrialOf = ""; return nil })
		}
		return true, nil
	}
	return false, nil
}

// copyContent loads one site's database into another's, re-addressed.
func (p *Provisioner) copyContent(ctx context.Context, source, s site.Site) error {
	from, err := p.database(ctx, source.Stack.Database)
	if err != nil {
		return err
	}
	to, err := p.database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	old, next := from.Open(source.Database.Name), to.Open(s.Database.Name)
	defer old.Close()
	defer next.Close()
	address := func(s site.Site) string { return strings.TrimSuffix(s.URL(p.settings.GatewayPort), "/") }
	readdress := rewrite.New(address(source), address(s))
	readdress.SubDomains = source.Network == site.NetworkDomains
	fit := kit.Fitting(ctx, to, func(string, string) {})
	reader, writer := io.Pipe()
	go func() { writer.CloseWithError(kit.Dump(ctx, old, writer)) }()
	err = kit.Load(ctx, next, reader, func(statement string) (string, error) {
		statement, err := fit(statement)
		if err != nil || strings.HasPrefix(statement, "CREATE ") {
			return statement, err
		}
		return readdress.Statement(statement)
	})
	reader.CloseWithError(err)
	return err
}

// cell keeps what a trial has learned of one copy.
func (o *operation) cell(name string, edit func(*plan.Cell)) {
	o.mu.Lock()
	trial := *o.recorded.Trial
	trial.Cells = slices.Clone(trial.Cells)
	for i := range trial.Cells {
		if trial.Cells[i].Copy == name {
			edit(&trial.Cells[i])
		}
	}
	o.recorded.Trial = &trial
	o.mu.Unlock()
	if err := o.p.records.SaveDetails(context.WithoutCancel(o.ctx), o.Snapshot()); err != nil {
		o.p.Log.Error("journal", "operation", o.recorded.ID, "reason", err)
	}
}

// sample asks a copy's pages, reads what PHP said meanwhile, and compares its front page with the site's own.
func (p *Provisioner) sample(ctx context.Context, o *operation, source, s site.Site) error {
	trial := o.Snapshot().Trial
	base := strings.TrimSuffix(s.URL(p.settings.GatewayPort), "/")
	transport := &http.Transport{DialContext: dialLoopback}
	defer transport.CloseIdleConnections()
	client := &http.Client{Transport: transport, Timeout: checkTimeout, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	visits := []plan.Visit{}
	for _, path := range append([]string{"/"}, trial.Visit...) {
		started := time.Now()
		response, text, err := kit.Page(ctx, client, "GET", base+path, nil)
		visit := plan.Visit{Path: path, Milliseconds: time.Since(started).Milliseconds(), Bytes: len(text)}
		if err == nil {
			visit.Status = response.StatusCode
		}
		visits = append(visits, visit)
	}
	messages := messagesOf(filepath.Join(p.Home.siteLogs(s.Name), "php-error.log"), s.Folder)
	var different *float64
	if trial.Picture {
		comparison, err := p.pictures.Compare(ctx, source.URL(p.settings.GatewayPort), s.URL(p.settings.GatewayPort))
		if err == nil {
			different = &comparison.Different
			err = cmp.Or(picture.Save(p.PictureFile(source.Name, o.recorded.ID, source.Name), comparison.Model), picture.Save(p.PictureFile(source.Name, o.recorded.ID, s.Name), comparison.Picture))
		}
		if err != nil {
			p.Log.Warn("picture", "site", s.Name, "reason", err)
		}
	}
	report := o.part(s.Name).Report
	o.cell(s.Name, func(c *plan.Cell) {
		c.Visits, c.Milliseconds, c.Messages, c.Different, c.Report = visits, visits[0].Milliseconds, messages, different, report
		c.Took = time.Since(s.CreatedAt).Milliseconds()
		c.Verdict, c.Summary = check.Pass, "passed"
		if report != nil {
			c.Summary = report.Summary()
			if report.Passed != nil && !*report.Passed {
				c.Verdict = check.Fail
			}
		}
		for _, visit := range visits[1:] {
			if visit.Status == 0 || visit.Status >= 500 {
				c.Verdict, c.Summary = check.Fail, fmt.Sprintf("%s answers %d", visit.Path, visit.Status)
			}
		}
	})
	return nil
}

// trialsPictured is how many trials of a site keep their pictures.
const trialsPictured = 5

// PictureFile is where a trial keeps the picture of a copy, or of the site itself by its name.
func (p *Provisioner) PictureFile(source, operation, name string) string {
	return p.Home.path("pictures", source, operation, name+".jpg")
}

// makeRoomForPictures prepares the folder of a new trial's pictures, and forgets those of old trials.
func (p *Provisioner) makeRoomForPictures(source, operation string) error {
	dir := p.Home.path("pictures", source)
	if older, err := os.ReadDir(dir); err == nil {
		slices.SortFunc(older, func(a, b os.DirEntry) int { return site.CompareVersions(b.Name(), a.Name()) })
		for _, each := range older[min(len(older), trialsPictured-1):] {
			os.RemoveAll(filepath.Join(dir, each.Name()))
		}
	}
	return os.MkdirAll(filepath.Join(dir, operation), 0o700)
}

// failedCell says why a copy could not even be tried.
func (o *operation) failedCell(name string, reason error) {
	o.cell(name, func(c *plan.Cell) {
		if c.Report == nil {
			c.Verdict, c.Summary = check.Fail, reason.Error()
		}
	})
}

var phpMessage = regexp.MustCompile(`^\[[^\]]+\] PHP (Fatal error|Parse error|Warning|Notice|Deprecated|Strict Standards|Recoverable fatal error|User [a-z]+|[A-Z][a-z ]+):\s+(.*?)(?: in (\S+?)(?: on line |:)(\d+))?$`)

// messagesOf counts what PHP wrote into its log, the most severe and frequent first.
func messagesOf(log, folder string) []plan.Message {
	messages := []plan.Message{}
	text, err := os.ReadFile(log)
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
