package kit

import (
	"bytes"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"text/template"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
)

// File is the name of the file that describes a kit, in a folder of the kit's own.
const File = "kit.yaml"

// Kit is what Vessik knows of one CMS, as its file says; docs/kits.md describes every entry.
type Kit struct {
	Name          string        `yaml:"kit"`
	Title         string        `yaml:"title"`
	About         string        `yaml:"about"`
	Version       string        `yaml:"version"`  // of a kit that has no releases
	Untitled      bool          `yaml:"untitled"` // the first page need not bear the site's title, and may lead on inside the site
	Load          string        `yaml:"load"`     // PHP that loads the CMS for finishing touches, called with the folder and the base address
	Supports      []Support     `yaml:"supports"`
	Layout        Layout        `yaml:"layout"`
	Recognise     Recognise     `yaml:"recognise"`
	Configuration Configuration `yaml:"configuration"`
	Database      Tables        `yaml:"database"`
	Install       Install       `yaml:"install"`
	Content       Content       `yaml:"content"`
	Administrator Administrator `yaml:"administrator"`
	SignIn        SignIn        `yaml:"sign-in"`
	Ticket        Ticket        `yaml:"ticket"`
	// Prepend is PHP that runs before every script of a site.
	Prepend   string    `yaml:"prepend"`
	Tasks     Tasks     `yaml:"tasks"`
	Languages Languages `yaml:"languages"`
	TimeZone  TimeZone  `yaml:"time-zone"`
	Web       Web       `yaml:"web"`
	Touches   []Touch   `yaml:"finishing-touches"`
	Network   Network   `yaml:"network"`
	Parts     []Part    `yaml:"parts"`
	Checks    []Check   `yaml:"checks"`
	Host      Host      `yaml:"host"`
	Upgrade   string    `yaml:"upgrade"` // PHP that brings the database up to the files' version, with the CMS loaded
	Stencil   Stencil   `yaml:"stencil"`

	// From is where the kit was read: empty for one that Vessik brings.
	From    string `yaml:"-"`
	files   fs.FS
	texts   map[string]*template.Template
	regexps map[string]*regexp.Regexp
}

// Support is the PHP that versions of the CMS are known to work on, the newest version first.
type Support struct {
	Version string `yaml:"version"` // from this one on
	From    string `yaml:"from"`
	To      string `yaml:"to"`
}

// Layout is how a release becomes a site's folder.
type Layout struct {
	Root         string   `yaml:"root"` // inside a release of the engine catalogue
	Also         []Piece  `yaml:"also"` // further folders of the release
	LeaveOut     []string `yaml:"leave-out"`
	Script       string   `yaml:"script"`        // PHP that has the last word on the tree, called with it
	Caches       []string `yaml:"caches"`        // folders whose content is made again by itself: no copy and no stencil takes it along
	Files        []Text   `yaml:"files"`         // written into the folder
	Folders      []string `yaml:"folders"`       // made in the folder
	Certificates bool     `yaml:"certificates"`  // links of the release lead to the machine's certificate bundle
	DocumentRoot string   `yaml:"document-root"` // inside the folder; empty where it is the folder itself
}

// Piece is a folder of a release, and where it goes in the tree.
type Piece struct {
	From string `yaml:"from"`
	To   string `yaml:"to"`
}

// Text is a file by its path in the site's folder.
type Text struct {
	Path string `yaml:"path"`
	Text string `yaml:"text"`
}

// Recognise tells this CMS from others by a file in an existing folder.
type Recognise struct {
	File    string `yaml:"file"`
	Version string `yaml:"version"` // pattern whose first group is the version, in that file
}

// Configuration is the file by which the CMS finds its database.
type Configuration struct {
	File   string  `yaml:"file"`
	Text   string  `yaml:"text"` // template
	Values []Value `yaml:"values"`
}

// Value finds one value in a configuration that anybody may have written: a constant, a variable, or a pattern of the kit's own whose
// group holds it: value what stands inside quotes, or a bare number, and quoted a literal with its quotes.
type Value struct {
	Of       string `yaml:"of"` // address (host and port), host, port, name, user, password, prefix, stem (the prefix without its last underscore), secret (made fresh for every copy)
	Constant string `yaml:"constant"`
	Variable string `yaml:"variable"`
	Key      string `yaml:"key"` // of an array
	Pattern  string `yaml:"pattern"`
}

// Tables says how tables are named.
type Tables struct {
	Prefix  string   `yaml:"prefix"`         // as the install script makes them
	Columns []Column `yaml:"prefix-columns"` // whose values begin with the prefix as well
}

// Column is a column of a table, by its name without the prefix.
type Column struct {
	Table  string `yaml:"table"`
	Column string `yaml:"column"`
	// Values are the only ones that begin with it; all that begin so where it is empty.
	Values []string `yaml:"values"`
	// PerSite says that every sub-site of a network has such a table, with a number after the prefix.
	PerSite bool `yaml:"per-site"`
}

// Install is the PHP that fills an empty database once a release: called with the folder and a base address.
type Install struct {
	Script string `yaml:"script"`
	Answer string `yaml:"answer"` // stands in what it prints, if it worked
}

// Content is SQL on a site's own database.
type Content struct {
	Fill      []string `yaml:"fill"`       // templates, run when a copy of the prepared database was loaded
	Title     string   `yaml:"title"`      // query
	TitleHTML bool     `yaml:"title-html"` // it is stored as HTML
	SetTitle  []string `yaml:"set-title"`
	Address   string   `yaml:"address"` // pattern whose first group is the base address, in a dump
	Marker    string   `yaml:"marker"`  // pattern whose first group is the prefix, in a dump
}

// Administrator is how users and passwords are kept.
type Administrator struct {
	Hashes   []Hash   `yaml:"hashes"`
	Pepper   Pepper   `yaml:"pepper"`
	Slashed  bool     `yaml:"slashed"` // the login form puts slashes before quotes
	Password string   `yaml:"password"`
	Users    string   `yaml:"users"` // query: login, name, mail address, role, newest sign-in rights first
	Set      []string `yaml:"set-password"`
	HandOver []string `yaml:"hand-over"` // makes the first administrator the site's own
	Script   string   `yaml:"script"`    // PHP that sets the administrator where SQL cannot, called like install
}

// Hash is a way to keep passwords, from a version on.
type Hash struct {
	Version string `yaml:"version"`
	Scheme  string `yaml:"scheme"` // phpass, bcrypt, bcrypt-sha384; own: the kit's SQL makes it of the password
}

// Pepper is a key in a file of the site: the CMS keeps the bcrypt hash of the password's HMAC-SHA-256 with it, in hexadecimal digits.
type Pepper struct {
	File    string `yaml:"file"`
	Pattern string `yaml:"pattern"` // whose first group is the key in base64
}

// SignIn goes through the login form as a person would.
type SignIn struct {
	Address   string `yaml:"address"`
	Form      string `yaml:"form"` // stands in the page that has it
	User      string `yaml:"user"` // names of fields
	Password  string `yaml:"password"`
	Error     string `yaml:"error"` // pattern whose first group says why nobody got in
	Dashboard string `yaml:"dashboard"`
	Mark      string `yaml:"mark"`     // stands in the dashboard
	SignOut   string `yaml:"sign-out"` // pattern whose first group is an address
}

// Ticket is the PHP that signs a user in without a password; it runs inside the site.
type Ticket struct {
	Script string `yaml:"script"`
}

// Tasks are what the CMS does at times, asked for by an address.
type Tasks struct {
	Address string `yaml:"address"`
	Next    string `yaml:"next"`    // query
	Pattern string `yaml:"pattern"` // whose first group is a time in seconds since 1970; the earliest counts
}

// Languages are those that the CMS speaks.
type Languages struct {
	Usual  string   `yaml:"usual"`
	Folder string   `yaml:"folder"` // of their files, in the site's folder
	Files  string   `yaml:"files"`  // pattern of those files' names; its first group is the language
	Pack   string   `yaml:"pack"`   // folder of those files inside a package of languages of the engine catalogue; empty where every release has them
	Set    []string `yaml:"set"`
}

// TimeZone says how the CMS is told.
type TimeZone struct {
	Set []string `yaml:"set"`
}

// Web is what a web server needs to know.
type Web struct {
	Front   string   `yaml:"front"`      // answers for addresses that are no file
	NoPHP   []string `yaml:"no-php"`     // address prefixes below which PHP is never run
	Private []string `yaml:"not-served"` // address prefixes that are never served
}

// Network is how one installation becomes several sites.
type Network struct {
	Modes  []string `yaml:"modes"`  // folders, domains
	Script string   `yaml:"script"` // PHP, called with the folder, the base address, tables or sites, the mode, and the names of sub-sites; the configuration is written anew in between
	Answer string   `yaml:"answer"`
	Sites  string   `yaml:"sites"` // query: addresses of the sub-sites, without their scheme
	// HandOver is SQL that makes the site's administrator the network's.
	HandOver    []string `yaml:"hand-over"`
	Files       []Text   `yaml:"files"`
	Shared      string   `yaml:"shared"`      // pattern of addresses that are the same below every sub-folder
	Directories []string `yaml:"directories"` // that want a slash at their end there
}

// Check is an address that is asked besides the front page, and what it must answer.
type Check struct {
	About   string `yaml:"about"`
	Address string `yaml:"address"` // below the site's, without a slash at its start
	Status  []int  `yaml:"status"`
	Text    string `yaml:"text"` // stands in the answer; empty for anything
}

// Host is what a host must offer for such a site to be moved there.
type Host struct {
	Extensions []string `yaml:"extensions"` // of PHP
	Writable   []string `yaml:"writable"`   // paths in the folder that PHP writes to
	Rewrite    bool     `yaml:"rewrite"`    // the web server reads .htaccess, or has the rules in it
}

// Part is a kind of thing that the CMS can be extended with, each a zip archive.
type Part struct {
	Kind     string `yaml:"kind"`     // plugin or theme
	File     string `yaml:"file"`     // pattern of the file, in its archive, that says what it is
	Title    string `yaml:"title"`    // patterns in that file, whose first groups are the title
	Version  string `yaml:"version"`  // and the version
	Into     string `yaml:"into"`     // folder of the site
	Activate string `yaml:"activate"` // PHP, with the CMS loaded: $value are those files, joined by ;

	file, title, version *regexp.Regexp
}

// Matches tells whether a file of an archive may say what it is.
func (p Part) Matches(name string) bool { return p.file.MatchString(name) }

// Read reads title and version; empty where it is none.
func (p Part) Read(text string) (title, version string) {
	for pattern, target := range map[*regexp.Regexp]*string{p.title: &title, p.version: &version} {
		if match := pattern.FindStringSubmatch(text); match != nil {
			*target = strings.TrimSpace(match[1])
		}
	}
	return title, version
}

// Touch is one finishing touch: what people do by hand after every install.
type Touch struct {
	Name  string   `yaml:"name"`
	About string   `yaml:"about"`
	SQL   []string `yaml:"sql"`
	PHP   string   `yaml:"php"` // runs with the CMS loaded by the kit's load script; a value is in $value
	Value Wanted   `yaml:"value"`

	command string // file of the user's own, run by a shell
}

// Wanted is the value that a finishing touch takes.
type Wanted struct {
	About   string `yaml:"about"`
	Pattern string `yaml:"pattern"` // of the whole value
	Example string `yaml:"example"`
}

// Stencil is what a saved site leaves out.
type Stencil struct {
	LeaveOut []string `yaml:"leave-out"` // paths in the folder
	Empty    []string `yaml:"empty"`     // SQL on the copy's database
	Own      []string `yaml:"own"`       // paths that are the site's and not the CMS's: with a newer release, these stay
}

// Facts are what a kit's templates may use.
type Facts struct {
	Site     site.Site
	Title    string
	URL      string // without a trailing slash
	Domain   string
	Prefix   string
	Database site.Database
	Host     string // of the database server
	Port     int
	Admin    site.Admin
	Hash     string // of the administrator's password
	Language string
	Visible  bool // search engines may list the site
	TimeZone string
	User     string // of a single action
	Network  string // folders or domains where it is one
	Value    string // of a finishing touch
}

// HostPort is the domain with the port of its address, where that is not http's own.
func (f Facts) HostPort() string { return f.URL[strings.Index(f.URL, "//")+min(2, len(f.URL)):] }

// Fault is what is wrong with a kit's file, and where.
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

var functions = template.FuncMap{
	"php":      phpString,
	"sql":      rewrite.Quote,
	"html":     escapeHTML,
	"token":    token,
	"nicename": nicename,
	"stem":     func(prefix string) string { return strings.TrimSuffix(prefix, "_") },
	"join":     strings.Join,
	"split":    func(text string) []string { return strings.Split(text, ";") },
}

var kitName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,31}$`)

// Read reads a kit from its folder and judges it. The error is a Faults where the file itself is wrong.
func Read(files fs.FS) (*Kit, error) {
	text, err := fs.ReadFile(files, File)
	if err != nil {
		return nil, fmt.Errorf("read the kit: %w", err)
	}
	k := &Kit{files: files, texts: map[string]*template.Template{}, regexps: map[string]*regexp.Regexp{}}
	if err := yaml.UnmarshalWithOptions(text, k, yaml.Strict()); err != nil {
		return nil, Faults{yamlFault(err)}
	}
	parsed, err := parser.ParseBytes(text, 0)
	if err != nil {
		return nil, Faults{yamlFault(err)}
	}
	j := &judge{kit: k, file: parsed}
	j.all()
	if len(j.faults) > 0 {
		return nil, j.faults
	}
	return k, nil
}

var yamlPlace = regexp.MustCompile(`^\[(\d+):(\d+)\] (.*)`)

// yamlFault reads the place out of the library's words.
func yamlFault(err error) Fault {
	f := Fault{Entry: "the file", Message: err.Error()}
	if match := yamlPlace.FindStringSubmatch(strings.Split(err.Error(), "\n")[0]); match != nil {
		fmt.Sscan(match[1], &f.Line)
		f.Message = match[3]
	}
	return f
}

type judge struct {
	kit    *Kit
	file   *ast.File
	faults Faults
}

func (j *judge) add(entry, message string, arguments ...any) {
	j.faults = append(j.faults, Fault{Line: j.line(entry), Entry: entry, Message: fmt.Sprintf(message, arguments...)})
}

// line is where an entry such as sign-in.error or touches[2].php stands; its parent's where there is none.
func (j *judge) line(entry string) int {
	for entry != "" {
		if at, err := yaml.PathString("$." + entry); err == nil {
			if node, err := at.FilterFile(j.file); err == nil && node != nil {
				return node.GetToken().Position.Line
			}
		}
		entry = entry[:max(strings.LastIndexAny(entry, ".["), 0)]
	}
	return 1
}

func (j *judge) all() {
	k := j.kit
	if !kitName.MatchString(k.Name) {
		j.add("kit", "%q is not a kit's name: a to z, 0 to 9 and hyphens, a letter first, 32 at most", k.Name)
	}
	if k.Title == "" {
		j.add("title", "is empty: say the name that people know it by")
	}
	for i, s := range k.Supports {
		if s.From == "" || s.To == "" {
			j.add(fmt.Sprintf("supports[%d]", i), "needs from and to, both PHP versions")
		}
	}
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
	j.script("layout.script", k.Layout.Script)
	j.place("layout.document-root", k.Layout.DocumentRoot, false)
	j.place("recognise.file", k.Recognise.File, false)
	j.pattern("recognise.version", k.Recognise.Version)
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
		for name, each := range map[string]struct {
			text   string
			target **regexp.Regexp
		}{"title": {part.Title, &part.title}, "version": {part.Version, &part.version}} {
			if *each.target, err = regexp.Compile(each.text); err != nil || (*each.target).NumSubexp() == 0 {
				j.add(entry+"."+name, "needs a pattern with a group in parentheses")
			}
		}
		if part.Activate != "" && k.Load == "" {
			j.add(entry+".activate", "needs the kit's load script")
		}
	}
	if k.Upgrade != "" && k.Load == "" {
		j.add("upgrade", "needs the kit's load script")
	}
	j.script("network.script", k.Network.Script)
	j.template("network.sites", k.Network.Sites)
	for i, mode := range k.Network.Modes {
		if mode != site.NetworkFolders && mode != site.NetworkDomains {
			j.add(fmt.Sprintf("network.modes[%d]", i), "%q is neither folders nor domains", mode)
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
	j.script("ticket.script", k.Ticket.Script)
	j.script("administrator.script", k.Administrator.Script)
	for entry, texts := range map[string][]string{"content.fill": k.Content.Fill, "content.set-title": k.Content.SetTitle,
		"administrator.set-password": k.Administrator.Set, "administrator.hand-over": k.Administrator.HandOver, "network.hand-over": k.Network.HandOver, "languages.set": k.Languages.Set, "time-zone.set": k.TimeZone.Set, "stencil.empty": k.Stencil.Empty} {
		for i, text := range texts {
			j.template(fmt.Sprintf("%s[%d]", entry, i), text)
		}
	}
	j.template("content.title", k.Content.Title)
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
	for i, h := range k.Administrator.Hashes {
		if !slices.Contains(schemes, h.Scheme) {
			j.add(fmt.Sprintf("administrator.hashes[%d].scheme", i), "%q is none of %s", h.Scheme, strings.Join(schemes, ", "))
		}
	}
	if k.SignIn.Address != "" {
		for entry, value := range map[string]string{"user": k.SignIn.User, "password": k.SignIn.Password, "dashboard": k.SignIn.Dashboard, "mark": k.SignIn.Mark} {
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
	seen := map[string]bool{}
	for i, t := range k.Touches {
		entry := fmt.Sprintf("finishing-touches[%d]", i)
		if !kitName.MatchString(t.Name) || seen[t.Name] {
			j.add(entry+".name", "%q is not a name of its own: a to z, 0 to 9 and hyphens", t.Name)
		}
		seen[t.Name] = true
		if t.PHP != "" && k.Load == "" {
			j.add(entry+".php", "needs the kit's load script")
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

var (
	safeAddress = regexp.MustCompile(`^/[A-Za-z0-9._/-]*$`)
	safeFront   = regexp.MustCompile(`^/[A-Za-z0-9._/-]+\.php(\?\$args|\?[a-z]+=\$uri&\$args)?$`)
)

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
	j.kit.texts[text] = t
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
		j.kit.regexps[text] = r
	}
}

func (j *judge) script(entry, name string) {
	if name == "" {
		return
	}
	if !fs.ValidPath(name) {
		j.add(entry, "%q is not a file of the kit", name)
	} else if _, err := fs.Stat(j.kit.files, name); err != nil {
		j.add(entry, "there is no %s beside %s", name, File)
	}
}

// write fills a template in.
func (k *Kit) write(text string, facts Facts) (string, error) {
	t := k.texts[text]
	if t == nil {
		return "", fmt.Errorf("the kit %s has no such template", k.Name)
	}
	var out strings.Builder
	if err := t.Execute(&out, facts); err != nil {
		return "", fmt.Errorf("the kit %s: %w", k.Name, err)
	}
	return out.String(), nil
}

func (k *Kit) writeAll(texts []string, facts Facts) ([]string, error) {
	out := []string{}
	for _, text := range texts {
		written, err := k.write(text, facts)
		if err != nil {
			return nil, err
		}
		out = append(out, written)
	}
	return out, nil
}

// Script returns one of the kit's own PHP files.
func (k *Kit) Script(name string) ([]byte, error) {
	if name == "" || k.files == nil {
		return nil, fs.ErrNotExist
	}
	return fs.ReadFile(k.files, name)
}

//go:embed kits
var builtIn embed.FS

// Kits are all that are known: those that Vessik brings, and the user's own, which may stand in for them.
type Kits map[string]*Kit

// All reads the kits that Vessik brings and those of a folder. A kit of the user's that is wrong is left out and named in faults.
func All(dir string) (kits Kits, faults map[string]error) {
	kits, faults = Kits{}, map[string]error{}
	for _, name := range []string{"wordpress", "spip", "empty", "archive"} {
		files, err := fs.Sub(builtIn, "kits/"+name)
		if err != nil {
			continue
		}
		k, err := Read(files)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			panic(err) // found by the package's test
		}
		kits[k.Name] = k
	}
	found, _ := filepath.Glob(filepath.Join(dir, "*", File))
	for _, file := range found {
		folder := filepath.Dir(file)
		k, err := Read(os.DirFS(folder))
		if err != nil {
			faults[folder] = err
			continue
		}
		k.From = folder
		kits[k.Name] = k
	}
	return kits, faults
}

// State tells one state of the user's kits from another.
func State(dir string) string {
	state := strings.Builder{}
	found, _ := filepath.Glob(filepath.Join(dir, "*", "*"))
	for _, file := range found {
		if info, err := os.Stat(file); err == nil {
			fmt.Fprintln(&state, file, info.Size(), info.ModTime().UnixNano())
		}
	}
	return state.String()
}

// Bear tells whether a version of a CMS is known to work on a PHP engine, or nothing is known.
func (k Kits) Bear(of site.Kit, php string) bool {
	return k[of.Name] == nil || k[of.Name].Bears(of.Version, php)
}

// Names are the kits' names, WordPress first, since it is the usual one.
func (k Kits) Names() []string {
	names := []string{}
	for name := range k {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		if a == "wordpress" || b == "wordpress" {
			return map[bool]int{true: -1, false: 1}[a == "wordpress"]
		}
		return strings.Compare(a, b)
	})
	return names
}

// Range is the lowest and the highest PHP that a version is known to work on; empty where nothing is known.
func (k *Kit) Range(version string) (from, to string) {
	for _, s := range k.Supports {
		if site.CompareVersions(version, s.Version) >= 0 {
			return s.From, s.To
		}
	}
	return "", ""
}

// Bears tells whether a version is known to work on a PHP engine, or nothing is known.
func (k *Kit) Bears(version, php string) bool {
	from, to := k.Range(version)
	own := site.MajorMinor(php)
	return from == "" || site.CompareVersions(own, from) >= 0 && site.CompareVersions(own, to) <= 0
}
