package cms

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"text/template"

	"vessik/internal/core/site"
	"vessik/internal/core/yamltext"
)

// Fault is what is wrong with a definition's file, and where.
type Fault struct {
	Line    int    `json:"line"`
	Entry   string `json:"entry"`
	Message string `json:"message"`
}

func (f Fault) String() string { return fmt.Sprintf("line %d, %s: %s", f.Line, f.Entry, f.Message) }

// Faults are all of them.
type Faults []Fault

func (f Faults) Error() string {
	lines := []string{}
	for _, fault := range f {
		lines = append(lines, fault.String())
	}
	return strings.Join(lines, "\n")
}

var cmsName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,31}$`)

// textFault is one of the whole text.
func textFault(err error) Fault {
	f := Fault{Entry: "the file", Message: err.Error()}
	var fault *yamltext.Fault
	if errors.As(err, &fault) {
		f.Line, f.Message = fault.Line, fault.Message
	}
	return f
}

var (
	constantName  = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)
	constantValue = regexp.MustCompile(`^(true|false|[0-9]{1,9})$`)
)

type judge struct {
	cms    *Definition
	file   yamltext.Text
	faults Faults
}

func (j *judge) add(entry, message string, arguments ...any) {
	j.faults = append(j.faults, Fault{Line: j.line(entry), Entry: entry, Message: fmt.Sprintf(message, arguments...)})
}

// line is where an entry such as sign-in.error or touches[2].php stands; its parent's where there is none.
func (j *judge) line(entry string) int {
	for entry != "" {
		if line, _, found := j.file.Place(entry); found {
			return line
		}
		entry = entry[:max(strings.LastIndexAny(entry, ".["), 0)]
	}
	return 1
}

// all judges the whole definition.
func (j *judge) all() {
	k := j.cms
	if !cmsName.MatchString(k.Name) {
		j.add("cms", "%q is not a definition's name: a to z, 0 to 9 and hyphens, a letter first, 32 at most", k.Name)
	}
	if k.Title == "" {
		j.add("title", "is empty: say the name that people know it by")
	}
	for i, s := range k.Supports {
		if s.From == "" || s.To == "" {
			j.add(fmt.Sprintf("supports[%d]", i), "needs from and to, both PHP versions")
		}
	}
	j.layout(k)
	j.configuration(k)
	j.script("install.script", k.Install.Script)
	for i, c := range k.Checks {
		if c.About == "" || len(c.Status) == 0 || strings.HasPrefix(c.Address, "/") || strings.Contains(c.Address, "://") {
			j.add(fmt.Sprintf("checks[%d]", i), "needs about, status, and an address without a slash at its start")
		}
	}
	for i, p := range k.Host.Writable {
		j.place(fmt.Sprintf("host.writable[%d]", i), p, true)
	}
	j.script("load", k.Load)
	for name, value := range k.Debug {
		if !constantName.MatchString(name) || !constantValue.MatchString(value) {
			j.add("debug", "has %s: %q, and wants the name of a constant, and true, false or a number", name, value)
		}
	}
	j.parts(k)
	j.network(k)
	j.texts(k)
	j.web(k)
	j.touches(k)
	j.helpers(k)
}

// layout judges how a site is laid out.
func (j *judge) layout(k *Definition) {
	for i, f := range k.Layout.Files {
		j.place(fmt.Sprintf("layout.files[%d].path", i), f.Path, true)
		j.template(fmt.Sprintf("layout.files[%d].text", i), f.Text)
	}
	for i, p := range k.Layout.Folders {
		j.place(fmt.Sprintf("layout.folders[%d]", i), p, true)
	}
	for i, piece := range k.Layout.Also {
		j.place(fmt.Sprintf("layout.also[%d].from", i), piece.From, true)
		j.place(fmt.Sprintf("layout.also[%d].to", i), piece.To, true)
	}
	for i, p := range k.Layout.Caches {
		j.place(fmt.Sprintf("layout.caches[%d]", i), p, true)
	}
	for i, p := range k.Layout.Uploads {
		j.place(fmt.Sprintf("layout.uploads[%d]", i), p, true)
	}
	j.script("layout.script", k.Layout.Script)
	j.place("layout.document-root", k.Layout.DocumentRoot, false)
	j.place("recognise.file", k.Recognise.File, false)
	j.pattern("recognise.version", k.Recognise.Version)
}

// configuration judges how a site is configured.
func (j *judge) configuration(k *Definition) {
	j.place("configuration.file", k.Configuration.File, false)
	j.template("configuration.text", k.Configuration.Text)
	if k.Configuration.Text != "" && k.Configuration.File == "" {
		j.add("configuration", "has a text and no file")
	}
	for i, v := range k.Configuration.Values {
		entry := fmt.Sprintf("configuration.values[%d]", i)
		if !slices.Contains([]string{"address", "host", "port", "name", "user", "password", "prefix", "stem", "domain", "secret"}, v.Of) {
			j.add(entry+".of", "%q is none of address, host, port, name, user, password, prefix, stem, domain, secret", v.Of)
		}
		if v.Constant == "" && v.Variable == "" && v.Key == "" && v.Pattern == "" {
			j.add(entry, "needs a constant, a variable, a key or a pattern")
		}
		j.pattern(entry+".pattern", v.Pattern)
		if v.Pattern != "" && !strings.Contains(v.Pattern, "(?P<value>") && !strings.Contains(v.Pattern, "(?P<quoted>") {
			j.add(entry+".pattern", "has no group (?P<value>…) or, for a literal with its quotes, (?P<quoted>…)")
		}
	}
}

// parts judges how a site has of plugins and themes.
func (j *judge) parts(k *Definition) {
	for i := range k.Parts {
		part, entry := &k.Parts[i], fmt.Sprintf("parts[%d]", i)
		if part.Kind != "plugin" && part.Kind != "theme" {
			j.add(entry+".kind", "%q is neither plugin nor theme", part.Kind)
		}
		j.place(entry+".into", part.Into, true)
		var err error
		if part.file, err = regexp.Compile(`\A(?:` + part.File + `)\z`); err != nil {
			j.add(entry+".file", "%v", err)
		}
		if part.here, err = regexp.Compile(`\A(?:` + part.Here + `)\z`); err != nil {
			j.add(entry+".here", "%v", err)
		}
		for name, each := range map[string]struct {
			text   string
			target **regexp.Regexp
		}{"title": {part.Title, &part.title}, "version": {part.Version, &part.version}} {
			if *each.target, err = regexp.Compile(each.text); err != nil || (*each.target).NumSubexp() == 0 {
				j.add(entry+"."+name, "needs a pattern with a group in parentheses")
			}
		}
		for name, text := range map[string]string{"activate": part.Activate, "active": part.Active, "deactivate": part.Deactivate,
			"switch-off": part.SwitchOff} {
			if text != "" && k.Load == "" {
				j.add(entry+"."+name, "needs the definition's load script")
			}
		}
		if part.Here != "" && part.Active == "" {
			j.add(entry+".active", "is needed beside here")
		}
	}
	if k.Upgrade != "" && k.Load == "" {
		j.add("upgrade", "needs the definition's load script")
	}
}

// network judges how a site becomes a network of sites.
func (j *judge) network(k *Definition) {
	j.script("network.script", k.Network.Script)
	j.template("network.sites", k.Network.Sites)
	for i, mode := range k.Network.Modes {
		if mode != site.NetworkFolders && mode != site.NetworkDomains {
			j.add(fmt.Sprintf("network.modes[%d]", i), "%q is neither folders nor domains", mode)
		}
	}
	for i, known := range k.Network.Recognise {
		j.pattern(fmt.Sprintf("network.recognise[%d].pattern", i), known.Pattern)
		if !slices.Contains(k.Network.Modes, known.Mode) {
			j.add(fmt.Sprintf("network.recognise[%d].mode", i), "%q is none of its modes", known.Mode)
		}
	}
	if len(k.Network.Modes) > 0 && (k.Network.Script == "" || k.Network.Sites == "") {
		j.add("network", "needs a script, and a query for its sites")
	}
	for i, f := range k.Network.Files {
		j.place(fmt.Sprintf("network.files[%d].path", i), f.Path, true)
		j.template(fmt.Sprintf("network.files[%d].text", i), f.Text)
	}
	if _, err := regexp.Compile(k.Network.Shared); err != nil || strings.ContainsAny(k.Network.Shared, "\"'{};\n ") {
		j.add("network.shared", "is no pattern that a web server's configuration can hold")
	}
	for i, p := range k.Network.Directories {
		if !safeAddress.MatchString(p) {
			j.add(fmt.Sprintf("network.directories[%d]", i), "%q is not an address: write it as /folder", p)
		}
	}
}

// texts judges how a site says in SQL and in patterns.
func (j *judge) texts(k *Definition) {
	j.script("ticket.script", k.Ticket.Script)
	j.script("administrator.script", k.Administrator.Script)
	for entry, texts := range map[string][]string{"content.fill": k.Content.Fill, "content.set-title": k.Content.SetTitle,
		"administrator.set-password": k.Administrator.Set, "administrator.hand-over": k.Administrator.HandOver,
		"network.hand-over": k.Network.HandOver, "languages.set": k.Languages.Set, "time-zone.set": k.TimeZone.Set,
		"stencil.empty": k.Stencil.Empty} {
		for i, text := range texts {
			j.template(fmt.Sprintf("%s[%d]", entry, i), text)
		}
	}
	j.template("content.title", k.Content.Title)
	for i, each := range k.Restless {
		j.pattern(fmt.Sprintf("restless[%d].rows", i), each.Rows)
	}
	for i, each := range k.Live {
		j.template(fmt.Sprintf("live[%d].ask", i), each.Ask)
		j.pattern(fmt.Sprintf("live[%d].when", i), each.When)
	}
	j.place("maintenance.file", k.Maintenance.File, false)
	for i, query := range k.Walk {
		j.template(fmt.Sprintf("walk[%d]", i), query)
	}
	j.template("administrator.password", k.Administrator.Password)
	j.template("administrator.users", k.Administrator.Users)
	j.template("tasks.next", k.Tasks.Next)
	j.place("languages.folder", k.Languages.Folder, false)
	j.place("languages.pack", k.Languages.Pack, false)
	j.pattern("languages.files", k.Languages.Files)
	j.place("administrator.pepper.file", k.Administrator.Pepper.File, false)
	j.pattern("administrator.pepper.pattern", k.Administrator.Pepper.Pattern)
	j.pattern("content.address", k.Content.Address)
	j.pattern("content.marker", k.Content.Marker)
	j.pattern("tasks.pattern", k.Tasks.Pattern)
}

// web judges how a site is served and signed in to.
func (j *judge) web(k *Definition) {
	for i, h := range k.Administrator.Hashes {
		if !slices.Contains(schemes, h.Scheme) {
			j.add(fmt.Sprintf("administrator.hashes[%d].scheme", i), "%q is none of %s", h.Scheme, strings.Join(schemes, ", "))
		}
	}
	if k.SignIn.Address != "" {
		for entry, value := range map[string]string{"user": k.SignIn.User, "password": k.SignIn.Password, "dashboard": k.SignIn.Dashboard,
			"mark": k.SignIn.Mark} {
			if value == "" {
				j.add("sign-in."+entry, "is empty, and there is an address to sign in at")
			}
		}
	}
	j.pattern("sign-in.error", k.SignIn.Error)
	j.pattern("sign-in.sign-out", k.SignIn.SignOut)
	for i, p := range append(slices.Clone(k.Web.NoPHP), k.Web.Private...) {
		if !safeAddress.MatchString(p) {
			j.add("web", "%q (entry %d) is not an address prefix: write it as /folder/", p, i+1)
		}
	}
	if k.Web.Front != "" && !safeFront.MatchString(k.Web.Front) {
		j.add("web.front", "%q is not an address of a script: write it as /index.php?$args", k.Web.Front)
	}
}

// touches judges how a site has of finishing touches.
func (j *judge) touches(k *Definition) {
	seen := map[string]bool{}
	for i, t := range k.Touches {
		entry := fmt.Sprintf("finishing-touches[%d]", i)
		if !cmsName.MatchString(t.Name) || seen[t.Name] {
			j.add(entry+".name", "%q is not a name of its own: a to z, 0 to 9 and hyphens", t.Name)
		}
		seen[t.Name] = true
		if t.PHP != "" && k.Load == "" {
			j.add(entry+".php", "needs the definition's load script")
		}
		if len(t.SQL) == 0 && t.PHP == "" {
			j.add(entry, "does nothing: give sql or php")
		}
		if _, err := regexp.Compile(t.Value.Pattern); err != nil {
			j.add(entry+".value.pattern", "%v", err)
		} else if t.Value.Pattern != "" && t.Value.Example == "" {
			j.add(entry+".value", "has no example")
		}
		for n, text := range t.SQL {
			j.template(fmt.Sprintf("%s.sql[%d]", entry, n), text)
		}
	}
}

func (j *judge) helpers(k *Definition) {
	seen := map[string]bool{}
	for i, h := range k.Helpers.Brings {
		entry := fmt.Sprintf("helpers.brings[%d]", i)
		if name := strings.TrimSuffix(h.Name, ".settings"); !cmsName.MatchString(name) || seen[h.Name] {
			j.add(entry+".name", "%q is not a name of its own: a to z, 0 to 9 and hyphens, and .settings behind it where it is loaded first", h.Name)
		}
		if seen[h.Name] = true; strings.TrimSpace(h.PHP) == "" || strings.Contains(h.PHP, "<?php") {
			j.add(entry+".php", "give PHP, without its opening tag")
		}
	}
}

func (j *judge) place(entry, value string, needed bool) {
	if value == "" && !needed {
		return
	}
	if !filepath.IsLocal(value) || path.Clean(value) != value {
		j.add(entry, "%q does not lie inside the site's folder: write it as folder/file", value)
	}
}

func (j *judge) template(entry, text string) {
	if text == "" {
		return
	}
	t, err := template.New(entry).Funcs(functions).Option("missingkey=error").Parse(text)
	if err == nil {
		err = t.Execute(&bytes.Buffer{}, Facts{})
	}
	if err != nil {
		j.add(entry, "%v", err)
		return
	}
	j.cms.texts[text] = t
}

func (j *judge) pattern(entry, text string) {
	if text == "" {
		return
	}
	r, err := regexp.Compile(text)
	switch {
	case err != nil:
		j.add(entry, "%v", err)
	case r.NumSubexp() == 0:
		j.add(entry, "has no group in parentheses")
	default:
		j.cms.regexps[text] = r
	}
}

func (j *judge) script(entry, name string) {
	if name == "" {
		return
	}
	if !fs.ValidPath(name) {
		j.add(entry, "%q is not a file of the definition", name)
	} else if _, err := fs.Stat(j.cms.files, name); err != nil {
		j.add(entry, "there is no %s beside %s", name, File)
	}
}
