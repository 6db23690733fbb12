package cms

import (
	"fmt"
	"io/fs"
	"regexp"
	"strings"
	"text/template"

	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/core/yamltext"
)

// File is the name of the file that describes a CMS, in a folder of its own.
const File = "cms.yaml"

// Definition is what Vessik knows of one CMS, as its file says; docs/cms.md describes every entry.
type Definition struct {
	Name          string        `yaml:"cms"`
	Title         string        `yaml:"title"`
	About         string        `yaml:"about"`
	Version       string        `yaml:"version"`  // of a definition that has no releases
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
	Prepend string `yaml:"prepend"`
	// Walk are queries for the paths of all that is published.
	Walk []string `yaml:"walk"`
	// Helpers are how local helpers are loaded, and those that it brings.
	Helpers Helpers `yaml:"helpers"`
	// Debug are constants, and their values in PHP, that a site has which debugs: its own definitions of them count for nothing then.
	Debug     map[string]string `yaml:"debug"`
	Tasks     Tasks             `yaml:"tasks"`
	Languages Languages         `yaml:"languages"`
	TimeZone  TimeZone          `yaml:"time-zone"`
	Web       Web               `yaml:"web"`
	Touches   []Touch           `yaml:"finishing-touches"`
	Network   Network           `yaml:"network"`
	Parts     []Part            `yaml:"parts"`
	Bare      string            `yaml:"bare"` // PHP before the CMS is loaded, so that none of its parts is run
	Checks    []Check           `yaml:"checks"`
	// People is where a database tells of people, and what stands there instead where nobody is to be recognised.
	People []People `yaml:"people"`
	// What is to be known of it where a site is pushed to a host.
	Kept        []Kept      `yaml:"kept-at-host"`
	Restless    []Restless  `yaml:"restless"`
	Maintenance Maintenance `yaml:"maintenance"`
	Live        []Amiss     `yaml:"live"`
	Host        Host        `yaml:"host"`
	Upgrade     string      `yaml:"upgrade"` // PHP that brings the database up to the files' version, with the CMS loaded
	Stencil     Stencil     `yaml:"stencil"`

	// From is where the definition was read: empty for one that Vessik brings.
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
	Uploads      []string `yaml:"uploads"`       // folders of what people upload
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

// Value finds one value in a configuration that anybody may have written: a constant, a variable, or a pattern of the definition's
// own whose
// group holds it: value what stands inside quotes, or a bare number, and quoted a literal with its quotes.
type Value struct {
	// Of is address (host and port), host, port, name, user, password, prefix, stem (the prefix without its last underscore) or secret
	// (made fresh for every copy).
	Of       string `yaml:"of"`
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
	Scheme  string `yaml:"scheme"` // phpass, bcrypt, bcrypt-sha384; own: the definition's SQL makes it of the password
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
	// Session names the cookie that shows who is signed in, where its name has the site's address in it: {md5 of URL} stands for that.
	Session string `yaml:"session"`
}

// Tasks are what the CMS does at times, asked for by an address.
type Tasks struct {
	Address string `yaml:"address"`
	Next    string `yaml:"next"`    // query
	Pattern string `yaml:"pattern"` // whose first group is a time in seconds since 1970; the earliest counts
}

// Languages are those that the CMS speaks.
type Languages struct {
	Usual  string `yaml:"usual"`
	Folder string `yaml:"folder"` // of their files, in the site's folder
	Files  string `yaml:"files"`  // pattern of those files' names; its first group is the language
	// Pack is the folder of those files inside a package of languages of the engine catalogue; empty where every release has them.
	Pack string   `yaml:"pack"`
	Set  []string `yaml:"set"`
	// Install says that the install script takes a language as its third argument, and makes what it makes in it.
	Install bool `yaml:"install"`
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
	Modes []string `yaml:"modes"` // folders, domains
	// Script is PHP, called with the folder, the base address, tables or sites, the mode, and the names of sub-sites; the configuration
	// is written anew in between.
	Script string `yaml:"script"`
	Answer string `yaml:"answer"`
	Sites  string `yaml:"sites"` // query: addresses of the sub-sites, without their scheme
	// Recognise tells from a configuration that it is a network's, and of which mode: the first pattern that is found in it.
	Recognise []Mode `yaml:"recognise"`
	// HandOver is SQL that makes the site's administrator the network's.
	HandOver    []string `yaml:"hand-over"`
	Files       []Text   `yaml:"files"`
	Shared      string   `yaml:"shared"`      // pattern of addresses that are the same below every sub-folder
	Directories []string `yaml:"directories"` // that want a slash at their end there
}

// People is a table that tells of people, by its name without the prefix; expressions of SQL stand for what its columns hold.
type People struct {
	Table   string            `yaml:"table"`
	Columns map[string]string `yaml:"columns"`
}

// Kept are rows of a table that stay what they are at a host when a site is pushed to it: what a column holds where the key has one of
// some names. The table is named without the prefix.
type Kept struct {
	Table  string   `yaml:"table"`
	Key    string   `yaml:"key"`
	Column string   `yaml:"column"`
	Names  []string `yaml:"names"`
}

// Restless are rows of a table that change by themselves, and tell nothing of what anybody did.
type Restless struct {
	Table string `yaml:"table"`
	Rows  string `yaml:"rows"` // pattern of a row in a dump, with a group
}

// Amiss is what a live site should not have: a value that its database answers, or a place in its configuration, that a pattern finds.
type Amiss struct {
	Ask    string `yaml:"ask"` // SQL; empty where the configuration is looked at
	When   string `yaml:"when"`
	Says   string `yaml:"says"` // VALUE stands for what the pattern's group found
	Remedy string `yaml:"remedy"`
}

// Maintenance is the file that has a site show a page to its visitors for a moment; TIME in its text stands for the time.
type Maintenance struct {
	File string `yaml:"file"`
	Text string `yaml:"text"`
}

// Mode is a kind of network, and the pattern by which it is recognised.
type Mode struct {
	Mode    string `yaml:"mode"`
	Pattern string `yaml:"pattern"`
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

	Here       string `yaml:"here"`       // pattern of such a file of a part that is in a site, below that folder
	Active     string `yaml:"active"`     // PHP, with the CMS loaded bare: $answer becomes the files of those that are on
	Deactivate string `yaml:"deactivate"` // PHP, with the CMS loaded: $value are files, as in activate
	SwitchOff  string `yaml:"switch-off"` // the same with the CMS loaded bare, for parts that keep it from being loaded

	file, here, title, version *regexp.Regexp
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
	PHP   string   `yaml:"php"` // runs with the CMS loaded by the definition's load script; a value is in $value
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

// Facts are what a definition's templates may use.
type Facts struct {
	Site          site.Site
	Title         string
	URL           string // without a trailing slash
	Domain        string
	Prefix        string
	Database      site.Database
	Host          string // of the database server
	Port          int
	Administrator site.Administrator
	Hash          string // of the administrator's password
	Language      string
	Visible       bool // search engines may list the site
	TimeZone      string
	User          string // of a single action
	Network       string // folders or domains where it is one
	Value         string // of a finishing touch
}

// HostPort is the domain with the port of its address, where that is not http's own.
func (f Facts) HostPort() string { return f.URL[strings.Index(f.URL, "//")+min(2, len(f.URL)):] }

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

// Read reads a definition from its folder and judges it. The error is a Faults where the file itself is wrong.
func Read(files fs.FS) (*Definition, error) {
	text, err := fs.ReadFile(files, File)
	if err != nil {
		return nil, fmt.Errorf("read the definition: %w", err)
	}
	k := &Definition{files: files, texts: map[string]*template.Template{}, regexps: map[string]*regexp.Regexp{}}
	read, err := yamltext.Read(text, k)
	if err != nil {
		return nil, Faults{textFault(err)}
	}
	j := &judge{cms: k, file: read}
	j.all()
	if len(j.faults) > 0 {
		return nil, j.faults
	}
	return k, nil
}

var (
	safeAddress = regexp.MustCompile(`^/[A-Za-z0-9._/-]*$`)
	safeFront   = regexp.MustCompile(`^/[A-Za-z0-9._/-]+\.php(\?\$args|\?[a-z]+=\$uri&\$args)?$`)
)

// write fills a template in.
func (k *Definition) write(text string, facts Facts) (string, error) {
	t := k.texts[text]
	if t == nil {
		return "", fmt.Errorf("the definition %s has no such template", k.Name)
	}
	var out strings.Builder
	if err := t.Execute(&out, facts); err != nil {
		return "", fmt.Errorf("the definition %s: %w", k.Name, err)
	}
	return out.String(), nil
}

func (k *Definition) writeAll(texts []string, facts Facts) ([]string, error) {
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

// Script returns one of the definition's own PHP files.
func (k *Definition) Script(name string) ([]byte, error) {
	if name == "" || k.files == nil {
		return nil, fs.ErrNotExist
	}
	return fs.ReadFile(k.files, name)
}
