package site

import (
	"cmp"
	"fmt"
	"hash/crc32"
	"net/mail"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
	_ "time/tzdata" // also where the machine has none
	"unicode"
	"unicode/utf8"
)

// Request is what somebody asks for. Only the name is needed; everything else is derived where it is empty.
type Request struct {
	Name             string   `json:"name" doc:"Host label: a to z, 0 to 9 and hyphens inside, 63 characters at most" example:"orchard-days"`
	Title            string   `json:"title,omitempty" doc:"The site's title" example:"Orchard Days"`
	Folder           string   `json:"folder,omitempty" doc:"Absolute path; must be empty or not exist"`
	Domain           string   `json:"domain,omitempty" doc:"Host name that the gateway answers for" example:"orchard-days.localhost"`
	Port             int      `json:"port,omitempty" doc:"The site's own port on 127.0.0.1"`
	Admin            string   `json:"admin,omitempty" doc:"The CMS administrator's user name"`
	AdminEmail       string   `json:"admin_email,omitempty" doc:"The administrator's mail address"`
	AdminPassword    string   `json:"admin_password,omitempty" doc:"12 characters or more; generated when empty"`
	Kit              string   `json:"kit,omitempty" doc:"The CMS" example:"wordpress"`
	KitVersion       string   `json:"kit_version,omitempty" doc:"The CMS version" example:"6.1"`
	PHP              string   `json:"php,omitempty" doc:"PHP engine" example:"php-8.2"`
	Web              string   `json:"web,omitempty" doc:"Web server engine" example:"nginx-1.22"`
	Database         string   `json:"database,omitempty" doc:"Database engine" example:"mariadb-10.11"`
	DatabaseName     string   `json:"database_name,omitempty" doc:"The site's database"`
	DatabaseUser     string   `json:"database_user,omitempty" doc:"The user that may use that database, and no other"`
	DatabasePassword string   `json:"database_password,omitempty" doc:"12 characters or more; generated when empty"`
	Archive          string   `json:"archive,omitempty" doc:"Release archive of a PHP CMS: .zip, .tar, .tar.gz or .tar.zst, an absolute path"`
	Adopt            string   `json:"adopt,omitempty" doc:"Existing folder, an absolute path, that is used where it stands"`
	Stencil          string   `json:"stencil,omitempty" doc:"Saved site that it is drawn from"`
	CopyOf           string   `json:"copy_of,omitempty" doc:"Site that it is a copy of"`
	SQL              string   `json:"sql,omitempty" doc:"Dump to load, plain or compressed with gzip or Zstandard, an absolute path; with an archive or an existing folder"`
	SQLAddress       string   `json:"sql_address,omitempty" doc:"Base address in that dump; found where the kit knows how" example:"https://orchard-days.example"`
	Touches          []string `json:"finishing_touches,omitempty" doc:"Finishing touches of the kit, or of the user's own; one that wants a value as NAME=VALUE"`
	Language         string   `json:"language,omitempty" doc:"One of the kit's languages, as it writes them, or in short where only one fits" example:"de_DE"`
	TimeZone         string   `json:"time_zone,omitempty" doc:"Name of the IANA database" example:"Europe/Lisbon"`
	Domains          []string `json:"domains,omitempty" doc:"Further host names that the site answers for"`
	ForceDomain      bool     `json:"force_domain,omitempty" doc:"Also an ending that is public"`
	Network          string   `json:"network,omitempty" enum:"folders,domains" doc:"Several sites in one installation: by sub-folder or by sub-domain"`
	SubSites         []string `json:"sub_sites,omitempty" doc:"Those of a network that are made at once" example:"north"`
	Plugins          []string `json:"plugins,omitempty" doc:"Plugins of the shelf, active from the start"`
	Themes           []string `json:"themes,omitempty" doc:"Themes of the shelf; the first is the active one"`
	Offline          bool     `json:"offline,omitempty" doc:"What the site asks of other machines is refused at once"`
	Group            string   `json:"group,omitempty" doc:"Label under which the fleet shows the site" example:"Gardens"`
	SearchEngines    bool     `json:"search_engines,omitempty" doc:"Search engines may list the site"`
	Prefix           string   `json:"prefix,omitempty" doc:"Begins the names of the CMS's tables; generated when empty" example:"k3xw_"`
}

// PortRange is where sites get their own ports from, unless the home has another.
var PortRange = [2]int{21000, 21999}

// ConsoleHost is the host name that the console lives on; no site may have it.
const ConsoleHost = "vessik.localhost"

// TicketPath begins the address of a sign-in ticket, on a site's own domain.
const TicketPath = "/vessik-ticket/"

// Facts are what a request is judged by: the machine, and what there is already.
type Facts struct {
	Home     string                  // the service's home folder
	Sites    []Site                  // all that exist
	Engines  map[string][]EngineFact // by kind (php, web, database), the usual one first
	Releases map[string][]string     // versions by kit, the default first
	KitNames []string                // all kits, the usual one first
	Roots    map[string]string       // document roots of kits whose is not the folder itself
	Touches  map[string][]TouchFact  // finishing touches by kit
	// OnShelf tells whether a plugin or theme of a CMS is on the shelf, and which there are.
	OnShelf  func(kit, kind, asked string) (found bool, all []string)
	Networks map[string][]string // kinds of networks by kit
	// Languages are those of a version of a CMS; known is false where they have not been fetched.
	Languages func(k Kit) (names []string, known bool)
	Defaults  Defaults // set once
	// Found tells what a folder, stencil or site is: its kit and document root; the fault is why it cannot be used.
	Found func(o Origin) (k Kit, root, fault string)
	// NetworkOf tells whether a stencil or site is a network, and of which sub-sites, and whether a stencil wants the newest CMS.
	NetworkOf func(o Origin) (network string, subSites []string, newest bool)
	// Supports tells whether a version of a CMS is known to work on a PHP; nil where nothing is known.
	Supports    func(k Kit, php string) bool
	FirstPort   int            // the lowest port that the service may bind
	PortRange   [2]int         // where sites get their ports from; the usual range where zero
	KeptPorts   map[int]string // ports that Vessik itself uses, and for what
	PortHolder  func(port int) string
	FolderFault func(folder string) string // why a folder cannot be used, empty if it can
}

// TouchFact is a finishing touch as far as a request is judged by it.
type TouchFact struct {
	Name    string
	Value   *regexp.Regexp // what its value must look like; nil for none
	Example string
}

// Derive fills in everything that the request leaves open. Passwords stay empty: the caller makes them.
func Derive(r Request, f Facts) Site {
	r = f.Defaults.Fill(r)
	asked := r.Name
	r.Name = ASCII(r.Name)
	s := Site{Name: r.Name, State: Provisioning, Port: r.Port, PortPinned: r.Port != 0,
		Title:  cmp.Or(strings.TrimSpace(r.Title), titleOf(asked)),
		Domain: ASCII(strings.ToLower(cmp.Or(r.Domain, r.Name+"."+cmp.Or(strings.TrimPrefix(f.Defaults.Ending, "."), "localhost")))), forceDomain: r.ForceDomain,
		Folder: cmp.Or(r.Folder, filepath.Join(cmp.Or(f.Defaults.Folder, filepath.Join(f.Home, "sites")), cmp.Or(r.Name, "NAME"))), Group: strings.TrimSpace(r.Group),
		Kit:   Kit{Name: cmp.Or(r.Kit, first(f.KitNames))},
		Stack: Stack{PHP: f.Engine("php", r.PHP), Web: f.Engine("web", r.Web), Database: f.Engine("database", r.Database)},
		Admin: Admin{User: cmp.Or(r.Admin, cut(r.Name, 50)+"-keeper"), Email: cmp.Or(r.AdminEmail, "keeper@"+cmp.Or(r.Name, "name")+".example"), Password: r.AdminPassword},
	}
	s.Root, s.Prefix, s.Touches, s.Visible = f.Roots[s.Kit.Name], r.Prefix, r.Touches, r.SearchEngines
	for _, domain := range slices.DeleteFunc(slices.Clone(r.Domains), empty) {
		s.Domains = append(s.Domains, ASCII(strings.ToLower(domain)))
	}
	s.Plugins, s.Themes = r.Plugins, r.Themes
	s.Network, s.SubSites = r.Network, slices.DeleteFunc(slices.Clone(r.SubSites), empty)
	s.Language, s.TimeZone, s.Settings.Offline = r.Language, r.TimeZone, r.Offline
	if s.TimeZone != "" {
		s.Settings.PHP = map[string]string{"date.timezone": s.TimeZone}
	}
	if s.Origin = originOf(r); s.Origin.Kind != "" && f.Found != nil {
		if f.NetworkOf != nil && (s.Origin.Kind == FromStencil || s.Origin.Kind == FromSite) {
			network, subSites, newest := f.NetworkOf(s.Origin)
			s.otherNetwork = s.Network != "" && s.Network != network || len(s.SubSites) > 0 && !slices.Equal(s.SubSites, subSites)
			s.Network, s.SubSites, s.Origin.Newest = network, subSites, newest
		}
		s.Origin.Newest = s.Origin.Newest || s.Origin.Kind == FromStencil && r.KitVersion == Newest
		found, root, fault := f.Found(s.Origin)
		version := r.KitVersion
		if version == Newest {
			version = ""
		}
		s.Kit, s.Root = Kit{cmp.Or(r.Kit, found.Name), cmp.Or(version, found.Version)}, root
		if s.Origin.Kind == FromFolder {
			s.Folder = s.Origin.From
		}
		if fault == "" && r.Kit != "" && r.Kit != found.Name && s.Origin.Kind != FromArchive {
			fault = fmt.Sprintf("it holds %s, not %s", found.Name, r.Kit)
		}
		s.originFault = fault
	}
	if newest := r.KitVersion == Newest || s.Origin.Newest; newest {
		fitting := slices.DeleteFunc(slices.Clone(f.Releases[s.Kit.Name]), func(v string) bool {
			return r.PHP != "" && f.Supports != nil && !f.Supports(Kit{s.Kit.Name, v}, s.Stack.PHP)
		})
		if len(fitting) > 0 {
			s.Kit.Version = slices.MaxFunc(fitting, CompareVersions)
		}
	}
	s.Kit.Version = cmp.Or(s.Kit.Version, r.KitVersion, f.release(s.Kit.Name, s.Stack.PHP))
	if r.PHP == "" && f.Supports != nil && !f.Supports(s.Kit, s.Stack.PHP) { // the newest that bears it
		bearing := slices.DeleteFunc(idsOf(f.Engines["php"]), func(id string) bool { return !f.Supports(s.Kit, id) })
		if len(bearing) > 0 {
			s.Stack.PHP = slices.MaxFunc(bearing, CompareVersions)
		}
	}
	if s.Language != "" && f.Languages != nil {
		if names, known := f.Languages(s.Kit); known {
			s.Language = cmp.Or(MatchLanguage(names, s.Language), s.Language)
		}
	}
	free := FreeDatabase(r.Name, s.Stack.Database, f)
	s.Database = Database{Name: cmp.Or(r.DatabaseName, free), User: cmp.Or(r.DatabaseUser, free), Password: r.DatabasePassword}
	if filepath.IsAbs(s.Folder) {
		s.Folder = filepath.Clean(s.Folder)
	}
	if s.Port == 0 {
		s.Port = freePort(f)
	}
	return s
}

// Newest stands for the newest version of a CMS, of those that can be fetched and those on the shelf.
const Newest = "newest"

func empty(text string) bool { return text == "" }

// originOf is where a request wants its files from.
func originOf(r Request) Origin {
	for _, o := range []Origin{{Kind: FromArchive, From: r.Archive}, {Kind: FromFolder, From: r.Adopt}, {Kind: FromStencil, From: r.Stencil}, {Kind: FromSite, From: r.CopyOf}} {
		if o.From != "" {
			o.SQL, o.Address = r.SQL, strings.TrimSuffix(r.SQLAddress, "/")
			return o
		}
	}
	return Origin{SQL: r.SQL}
}

// origins judges what a request says of them.
func (c *checker) origin(s Site, f Facts) {
	field := map[string]string{FromArchive: "archive", FromFolder: "adopt", FromStencil: "stencil", FromSite: "copy_of"}[s.Origin.Kind]
	if s.originFault != "" {
		c.add(field, "mend that, or name another", "%s", s.originFault)
	}
	if s.Origin.SQL != "" && s.Origin.Kind != FromArchive && s.Origin.Kind != FromFolder {
		c.add("sql", "leave it out, or name an archive or a folder as well", "a dump goes with an archive or an existing folder")
	}
	for _, part := range []struct {
		kind, field string
		asked       []string
	}{{"plugin", "plugins", s.Plugins}, {"theme", "themes", s.Themes}} {
		for _, asked := range part.asked {
			if found, all := f.OnShelf(s.Kit.Name, part.kind, asked); !found {
				c.add(part.field, "choose from "+cmp.Or(strings.Join(all, ", "), "none: put one there first with vessik shelf add FILE"), "there is no %s %q for %s on the shelf", part.kind, asked, s.Kit.Name)
			}
		}
	}
	for _, text := range s.Touches {
		name, value, _ := strings.Cut(text, "=")
		known := f.Touches[s.Kit.Name]
		i := slices.IndexFunc(known, func(t TouchFact) bool { return t.Name == name })
		switch {
		case i < 0:
			names := []string{}
			for _, t := range known {
				names = append(names, t.Name)
			}
			c.add("finishing_touches", "choose from "+cmp.Or(strings.Join(names, ", "), "none: this kit has none"), "%s has no finishing touch %q", s.Kit.Name, name)
		case known[i].Value == nil && value != "":
			c.add("finishing_touches", "leave the value out", "%s takes none", name)
		case known[i].Value != nil && !known[i].Value.MatchString(value):
			c.add("finishing_touches", "write it as "+name+"="+known[i].Example, "%s wants another value than %q", name, value)
		}
	}
}

// network judges what is asked for of a network of sites.
func (c *checker) network(s Site, f Facts) {
	if s.otherNetwork {
		c.add("network", "leave it out, with its sub-sites", "what is drawn or copied is a network already, or is none")
		return
	}
	if s.Network == "" {
		if len(s.SubSites) > 0 {
			c.add("sub_sites", "say folders or domains with -network as well", "only a network has sub-sites")
		}
		return
	}
	if modes := f.Networks[s.Kit.Name]; !slices.Contains(modes, s.Network) {
		c.add("network", "choose from "+cmp.Or(strings.Join(modes, ", "), "none: this kit has none"), "%s makes no network by %q", s.Kit.Name, s.Network)
	} else if s.Origin.Kind == FromArchive {
		c.add("network", "leave it out", "its own installer decides that")
	}
	for i, sub := range s.SubSites {
		switch {
		case len(sub) > 40 || !label.MatchString(sub):
			c.add("sub_sites", "use a to z, 0 to 9 and hyphens inside, 40 characters at most", "%q cannot be part of an address", sub)
		case slices.Contains(s.SubSites[:i], sub):
			c.add("sub_sites", "name it once", "%s stands there twice", sub)
		}
	}
}

var languageName = regexp.MustCompile(`^[a-z]{2,3}([_-][A-Za-z0-9]{2,12})*$`)

// MatchLanguage finds the language that somebody means by a name such as de_DE, de-de or de; empty where none or several fit.
func MatchLanguage(names []string, asked string) string {
	asked = strings.ReplaceAll(strings.ToLower(asked), "-", "_")
	for _, name := range []string{asked, asked + "_" + asked} { // a language is first of all that of the country called so
		if i := slices.IndexFunc(names, func(each string) bool { return strings.ToLower(each) == name }); i >= 0 {
			return names[i]
		}
	}
	fitting := slices.DeleteFunc(slices.Clone(names), func(each string) bool { return !strings.HasPrefix(strings.ToLower(each), asked+"_") })
	if len(fitting) == 1 || len(fitting) > 1 && fitting[0] == names[0] { // the first is the CMS's usual one
		return fitting[0]
	}
	return ""
}

// locale judges the language and the time zone.
func (c *checker) locale(s Site, f Facts) {
	if s.Language != "" && f.Languages != nil {
		names, known := f.Languages(s.Kit)
		switch {
		case known && len(names) == 0:
			c.add("language", "leave it out, and choose in the site itself", "nothing is known of the languages of %s", s.Kit.Name)
		case known && !slices.Contains(names, s.Language):
			c.add("language", "choose one of "+strings.Join(names, ", "), "%s %s has no language %q here", s.Kit.Name, s.Kit.Version, s.Language)
		case !languageName.MatchString(s.Language):
			c.add("language", "write it as de_DE", "%q is not a language", s.Language)
		}
	}
	if s.TimeZone != "" {
		if _, err := time.LoadLocation(s.TimeZone); err != nil || s.TimeZone == "Local" {
			c.add("time_zone", "write it as Europe/Lisbon", "%q is not in the IANA time zone database", s.TimeZone)
		}
	}
}

// release is the usual version of a CMS, or where that one does not bear the PHP, the newest that does.
func (f Facts) release(kit, php string) string {
	usual := first(f.Releases[kit])
	fitting := slices.DeleteFunc(slices.Clone(f.Releases[kit]), func(v string) bool { return f.Supports != nil && !f.Supports(Kit{kit, v}, php) })
	if len(fitting) == 0 || slices.Contains(fitting, usual) {
		return usual
	}
	return slices.MaxFunc(fitting, CompareVersions)
}

// Engine is the id that a part of it stands for; the usual one for an empty part, and the part itself where nothing fits.
func (f Facts) Engine(kind, part string) string {
	if part == "" {
		return first(idsOf(f.Engines[kind]))
	}
	if id, ok := MatchEngine(f.Engines[kind], part); ok {
		return id
	}
	return part
}

// grantLimit bounds a database's name as a grant has it, where each _ counts twice: it is escaped there, since it would stand for any
// letter.
const grantLimit = 64

func grantLength(name string) int { return len(name) + strings.Count(name, "_") }

// databaseOf turns a site's name into that of its database; where it would be too long, into a shorter one with a checksum.
func databaseOf(name string) string {
	whole := strings.ReplaceAll(name, "-", "_")
	if grantLength(whole) <= grantLimit {
		return whole
	}
	return fmt.Sprintf("%s_%08x", cut(strings.ReplaceAll(name, "-", ""), 48), crc32.ChecksumIEEE([]byte(name)))
}

// FreeDatabase is the name of a site's database and its user on a server; a number follows where a site that was renamed has it.
func FreeDatabase(name, server string, f Facts) string {
	own := databaseOf(name)
	for number := 2; ; number++ {
		taken := slices.ContainsFunc(f.Sites, func(s Site) bool {
			return s.Name != name && s.Stack.Database == server && (strings.EqualFold(s.Database.Name, own) || s.Database.User == own)
		})
		if !taken {
			return own
		}
		own = cut(databaseOf(name), 40) + fmt.Sprintf("_%d", number)
	}
}

func (f Facts) ports() [2]int {
	if f.PortRange[0] == 0 {
		return PortRange
	}
	return f.PortRange
}

// FreePort is the lowest port of the range that nobody has; 0 where none is free.
func FreePort(f Facts) int { return freePort(f) }

func freePort(f Facts) int {
	for port := f.ports()[0]; port <= f.ports()[1]; port++ {
		taken := f.KeptPorts[port] != "" || slices.ContainsFunc(f.Sites, func(s Site) bool { return s.Port == port })
		if !taken && f.PortHolder(port) == "" {
			return port
		}
	}
	return 0
}

var (
	label       = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]*[a-z0-9])?$`)
	identifier  = regexp.MustCompile(`^[A-Za-z0-9_]+$`)
	tablePrefix = regexp.MustCompile(`^[a-z][a-z0-9_]{0,19}$`)
	userName    = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._@ -]*$`)
	guessed     = []string{"admin", "administrator", "root", "user", "test", "webmaster", "wordpress"}
	systemNames = []string{"mysql", "sys", "information_schema", "performance_schema", "vessik", "root", "mariadb"}
	reserved    = []string{"vessik", "localhost", "mysql", "sys", "information-schema", "performance-schema", "root", "mariadb"}
	commonWords = []string{"password", "passwort", "123456", "qwerty", "letmein", "welcome", "changeme", "secret", "admin"}
)

// UnsafeInPath tells whether a path has characters that an engine's configuration cannot hold, however it is quoted.
func UnsafeInPath(path string) bool { return strings.ContainsAny(path, "\"'$\\`;{}%*?[]\n\r\t") }

// Check returns everything that is wrong with a derived site, each with its field and its remedy.
func Check(s Site, f Facts) Problems {
	c := &checker{site: s.Name}
	c.name(s, f)
	c.title(s)
	c.domains(s, f)
	c.network(s, f)
	c.folder(s, f)
	c.port(s, f)
	c.admin(s)
	c.stack(s, f)
	c.database(s, f)
	c.origin(s, f)
	c.locale(s, f)
	return c.problems
}

type checker struct {
	site     string
	problems Problems
}

func (c *checker) add(field, remedy, message string, arguments ...any) {
	c.problems = append(c.problems, Problem{Site: c.site, Field: field, Message: fmt.Sprintf(message, arguments...), Remedy: remedy})
}

func (c *checker) name(s Site, f Facts) {
	const remedy = "use a to z, 0 to 9 and hyphens inside, 63 characters at most, as in orchard-days"
	switch {
	case s.Name == "":
		c.add("name", remedy, "is empty")
	case len(s.Name) > 63:
		c.add("name", remedy, "is %d characters long", len(s.Name))
	case !label.MatchString(s.Name):
		fault := "%q is not a host label"
		if strings.ToLower(s.Name) != s.Name {
			fault = "%q has upper-case letters"
		}
		if near := nearest(s.Name); near != "" {
			c.add("name", "write it "+near, fault, s.Name)
		} else {
			c.add("name", remedy, fault, s.Name)
		}
	case slices.Contains(reserved, s.Name):
		c.add("name", "choose another name", "%q is reserved", s.Name)
	default:
		for _, other := range f.Sites {
			if other.Name == s.Name {
				c.add("name", "choose another name, or retire that site first", "a site named %q exists (%s)", s.Name, other.State)
			}
		}
	}
}

var notInLabel = regexp.MustCompile(`[^\p{L}\p{N}]+`)

// nearest is the host label that somebody probably meant; empty if there is none.
func nearest(name string) string {
	near := strings.Trim(notInLabel.ReplaceAllString(strings.ToLower(name), "-"), "-")
	if slices.Contains(reserved, near) || !label.MatchString(ASCII(near)) {
		return ""
	}
	return near
}

func (c *checker) title(s Site) {
	for field, text := range map[string]string{"group": s.Group, "note": s.Note} {
		if most := map[string]int{"group": 60, "note": 2000}[field]; utf8.RuneCountInString(text) > most {
			c.add(field, fmt.Sprintf("shorten it to %d characters", most), "is %d characters long", utf8.RuneCountInString(text))
		}
	}
	if utf8.RuneCountInString(s.Title) > 200 {
		c.add("title", "shorten it to 200 characters", "is %d characters long", utf8.RuneCountInString(s.Title))
	}
	if !utf8.ValidString(s.Title) || strings.ContainsFunc(s.Title, unicode.IsControl) {
		c.add("title", "write it in one line of UTF-8", "has control characters")
	}
}

func (c *checker) folder(s Site, f Facts) {
	const remedy = "choose a folder of its own, empty or not yet there"
	if s.Folder == filepath.Join(f.Home, "sites", s.Name) && !label.MatchString(s.Name) {
		return // the name is at fault, and said
	}
	if !filepath.IsAbs(s.Folder) {
		c.add("folder", "give an absolute path", "%q is not absolute", s.Folder)
		return
	}
	if UnsafeInPath(s.Folder) {
		c.add("folder", "choose a path without quotes, $, \\, ;, %, braces, brackets and wildcards", "%q has characters that a web server's configuration cannot hold", s.Folder)
		return
	}
	before := len(c.problems)
	for _, other := range f.Sites {
		if other.Name == s.Name {
			continue
		}
		if Inside(s.Folder, other.Folder) || Inside(other.Folder, s.Folder) {
			c.add("folder", remedy, "%s overlaps with the folder of the site %s", s.Folder, other.Name)
			break
		}
	}
	inHome := Inside(s.Folder, f.Home) && filepath.Dir(s.Folder) != filepath.Join(f.Home, "sites")
	if len(c.problems) == before && (inHome || Inside(f.Home, s.Folder)) {
		c.add("folder", "choose a folder outside it, or leave -folder out", "%s overlaps with the service's home %s", s.Folder, f.Home)
	}
	if s.Origin.Kind == FromFolder { // what is there was judged already
		return
	}
	if nameFault := slices.ContainsFunc(c.problems, func(p Problem) bool { return p.Field == "name" }); len(c.problems) == before && !nameFault {
		if fault := f.FolderFault(s.Folder); fault != "" {
			c.add("folder", remedy, "%s", fault)
		}
	}
}

// Inside tells whether a path is the folder or lies in it.
func Inside(path, folder string) bool {
	relative, err := filepath.Rel(folder, path)
	return err == nil && filepath.IsLocal(relative)
}

func (c *checker) port(s Site, f Facts) {
	const remedy = "choose another port, or leave -port out"
	switch {
	case s.Port == 0:
		c.add("port", "free one of them, or choose one with -port", "no port from %d to %d is free", f.ports()[0], f.ports()[1])
	case s.Port < 1 || s.Port > 65535:
		c.add("port", "choose one from 1024 to 65535", "%d is not a port", s.Port)
	case s.Port < f.FirstPort:
		c.add("port", fmt.Sprintf("choose one from %d to 65535", f.FirstPort), "%d may only be opened by root, and no engine runs as root", s.Port)
	case f.KeptPorts[s.Port] != "":
		c.add("port", remedy, "%d is used by Vessik for %s", s.Port, f.KeptPorts[s.Port])
	default:
		for _, other := range f.Sites {
			if other.Port == s.Port && other.Name != s.Name {
				c.add("port", remedy, "%d belongs to the site %s", s.Port, other.Name)
				return
			}
		}
		if holder := f.PortHolder(s.Port); holder != "" {
			c.add("port", remedy, "%d is held by %s", s.Port, holder)
		}
	}
}

func (c *checker) admin(s Site) {
	switch {
	case !userName.MatchString(s.Admin.User) && !strings.HasSuffix(s.Admin.User, "-keeper"), len(s.Admin.User) > 60:
		c.add("admin", "use letters, digits, and . _ @ - inside, 60 characters at most", "%q is not a user name", s.Admin.User)
	case slices.Contains(guessed, strings.ToLower(s.Admin.User)):
		c.add("admin", "choose a name of your own, such as head-keeper", "%q is what everybody tries first, and local habits go live", s.Admin.User)
	}
	if address, err := mail.ParseAddress(s.Admin.Email); err != nil || address.Address != s.Admin.Email || !strings.Contains(s.Admin.Email, ".") {
		if label.MatchString(s.Name) {
			c.add("admin_email", "write it as name@host.example", "%q is not a mail address", s.Admin.Email)
		}
	}
	c.password("admin_password", s.Admin.Password, s.Admin.User, s.Name)
}

// CheckAdmin judges the administrator that a site is to have.
func CheckAdmin(s Site) Problems {
	c := &checker{site: s.Name}
	c.admin(s)
	return c.problems
}

// CheckPassword judges a given password; an empty one is generated later. words must not stand in it.
func CheckPassword(name, field, password string, words ...string) Problems {
	c := &checker{site: name}
	c.password(field, password, words...)
	return c.problems
}

// password judges a given password; an empty one is generated later.
func (c *checker) password(field, password string, words ...string) {
	if password == "" {
		return
	}
	const remedy = "use 12 characters or more that nobody guesses, or leave it out and one is generated"
	lower := strings.ToLower(password)
	distinct := map[rune]bool{}
	for _, r := range password {
		distinct[r] = true
	}
	switch {
	case strings.ContainsFunc(password, unicode.IsControl) || !utf8.ValidString(password) || strings.TrimSpace(password) != password:
		c.add(field, remedy, "has control characters, or spaces at an end")
	case utf8.RuneCountInString(password) < 12:
		c.add(field, remedy, "is %d characters short of 12", 12-utf8.RuneCountInString(password))
	case len(password) > 128:
		c.add(field, "use 128 bytes at most", "is %d bytes long", len(password))
	case len(distinct) < 6:
		c.add(field, remedy, "has only %d different characters", len(distinct))
	default:
		for _, word := range append(slices.Clone(commonWords), words...) {
			if word != "" && strings.Contains(lower, strings.ToLower(word)) {
				c.add(field, remedy, "contains %q", word)
				return
			}
		}
	}
}

func (c *checker) stack(s Site, f Facts) {
	for _, part := range []struct{ field, kind, id string }{{"php", "php", s.Stack.PHP}, {"web", "web", s.Stack.Web}, {"database", "database", s.Stack.Database}} {
		if ids := idsOf(f.Engines[part.kind]); !slices.Contains(ids, part.id) {
			c.add(part.field, "choose one of "+strings.Join(ids, ", "), "no %s engine fits %q", part.kind, part.id)
		}
	}
	kits := []string{}
	for name := range f.Releases {
		kits = append(kits, name)
	}
	slices.Sort(kits)
	if s.Origin.Kind != "" { // its version is what it is
		if !slices.Contains(f.KitNames, s.Kit.Name) && s.originFault == "" {
			c.add("kit", "choose one of "+strings.Join(kits, ", "), "there is no kit %q", s.Kit.Name)
		}
	} else if versions, ok := f.Releases[s.Kit.Name]; !ok {
		c.add("kit", "choose one of "+strings.Join(kits, ", "), "there is no kit %q", s.Kit.Name)
	} else if !slices.Contains(versions, s.Kit.Version) {
		c.add("kit_version", "choose one of "+strings.Join(versions, ", "), "there is no %s %q", s.Kit.Name, s.Kit.Version)
	}
}

func (c *checker) database(s Site, f Facts) {
	nameGood := label.MatchString(s.Name) // a derived identifier is only as good as the name
	for _, part := range []struct {
		field, value string
		limit        int
	}{{"database_name", s.Database.Name, grantLimit}, {"database_user", s.Database.User, 80}} {
		switch {
		case !identifier.MatchString(part.value) || grantLength(part.value) > part.limit:
			if nameGood || part.value != databaseOf(s.Name) {
				c.add(part.field, fmt.Sprintf("use letters, digits and _, %d at most, where _ counts twice", part.limit), "%q cannot be used", part.value)
			}
		case slices.Contains(systemNames, strings.ToLower(part.value)) && !slices.Contains(reserved, s.Name):
			c.add(part.field, "choose another", "%q belongs to the database server", part.value)
		}
	}
	for _, other := range f.Sites {
		if other.Name == s.Name || other.Stack.Database != s.Stack.Database {
			continue
		}
		if strings.EqualFold(other.Database.Name, s.Database.Name) {
			c.add("database_name", "choose another with -database-name", "%q belongs to the site %s", s.Database.Name, other.Name)
		}
		if other.Database.User == s.Database.User {
			c.add("database_user", "choose another with -database-user", "%q belongs to the site %s", s.Database.User, other.Name)
		}
	}
	c.password("database_password", s.Database.Password, s.Database.User)
	if s.Prefix != "" && !tablePrefix.MatchString(s.Prefix) {
		c.add("prefix", "use a to z, 0 to 9 and _, a letter first, 20 at most, as in k3xw_", "%q cannot begin a table's name", s.Prefix)
	}
}

func first(values []string) string {
	if len(values) == 0 {
		return ""
	}
	return values[0]
}

func cut(text string, length int) string { return text[:min(len(text), length)] }

// titleOf turns orchard-days into Orchard Days.
func titleOf(name string) string {
	words := strings.Split(name, "-")
	for i, word := range words {
		if word != "" {
			first, size := utf8.DecodeRuneInString(word)
			words[i] = string(unicode.ToTitle(first)) + word[size:]
		}
	}
	return strings.TrimSpace(strings.Join(words, " "))
}
