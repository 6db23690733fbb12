package site

import (
	"cmp"
	"fmt"
	"hash/crc32"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	_ "time/tzdata" // also where the machine has none
	"unicode"
	"unicode/utf8"
)

// Request is what somebody asks for, as wire.Request tells what each is for. Only the name is needed; everything else is derived
// where it is empty.
type Request struct {
	Name             string
	Title            string
	Folder           string
	Domain           string
	Port             int
	CMS              string
	CMSVersion       string
	PHP              string
	Web              string
	Database         string
	DatabaseName     string
	DatabaseUser     string
	DatabasePassword string
	Archive          string
	Parcel           string
	Adopt            string
	Stencil          string
	CopyOf           string
	SQL              string
	SQLAddress       string
	Dump             string
	Touches          []string
	Language         string
	TimeZone         string
	Domains          []string
	ForceDomain      bool
	ForceWeak        bool
	Network          string
	SubSites         []string
	Plugins          []string
	Themes           []string
	Outgoing         string // open, web or closed; empty for what is usual
	Group            string
	SearchEngines    bool
	HTTPS            string // on or off; empty for what is usual
	Prefix           string

	Administrator Administrator
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
	Releases map[string][]string     // versions by CMS, the default first
	CMSNames []string                // all CMS definitions, the usual one first
	Roots    map[string]string       // document roots of CMS definitions whose is not the folder itself
	Touches  map[string][]TouchFact  // finishing touches by CMS
	// OnShelf tells whether a plugin or theme of a CMS is on the shelf, and which there are.
	OnShelf  func(cms, kind, asked string) (found bool, all []string)
	Networks map[string][]string // kinds of networks by CMS
	// Languages are those of a version of a CMS; known is false where they have not been fetched.
	Languages func(k CMS) (names []string, known bool)
	Defaults  Defaults // set once
	// Found tells what an origin is; the fault is why it cannot be used.
	Found func(o Origin) (found Found, fault string)
	// Supports tells whether a version of a CMS is known to work on a PHP; nil where nothing is known.
	Supports    func(k CMS, php string) bool
	FirstPort   int            // the lowest port that the service may bind
	PortRange   [2]int         // where sites get their ports from; the usual range where zero
	KeptPorts   map[int]string // ports that Vessik itself uses, and for what
	PortHolder  func(port int) string
	FolderFault func(folder string) string // why a folder cannot be used, empty if it can
}

// Found is what an origin turned out to be.
type Found struct {
	CMS CMS
	// Recognised says that a folder holds that CMS whole; Bare is why one that does not cannot be a part of a site either.
	Recognised bool
	Bare       string
	Root       string // the document root in it
	Title      string // it has; of parcels only
	Network    string
	SubSites   []string
	Parcel     bool     // an archive is a parcel
	Newest     bool     // it wants the newest release of its CMS
	Stack      Stack    // it runs on; of sites and parcels only
	Settings   Settings // it brings
	HTTPS      bool     // it answers so; of sites only
}

// fill asks for the stack of what was found, where none is asked for.
func (f Found) fill(r Request) Request {
	r.PHP, r.Web, r.Database = cmp.Or(r.PHP, f.Stack.PHP), cmp.Or(r.Web, f.Stack.Web), cmp.Or(r.Database, f.Stack.Database)
	return r
}

// TouchFact is a finishing touch as far as a request is judged by it.
type TouchFact struct {
	Name    string
	Value   *regexp.Regexp // what its value must look like; nil for none
	Example string
}

// Complete fills in everything that the request leaves open. Passwords stay empty: the caller makes them.
func Complete(r Request, f Facts) Site {
	found, fault := Found{}, "" // where it is made of something
	if origin := originOf(r); origin.Kind != "" && f.Found != nil {
		found, fault = f.Found(origin)
	}
	asked, own := r.Name, r.Administrator != (Administrator{})
	r = f.Defaults.Fill(found.fill(r))
	r.Name = ASCII(r.Name)
	s := Site{Name: r.Name, State: Making, Port: r.Port, PortPinned: r.Port != 0,
		Title:       cmp.Or(strings.TrimSpace(r.Title), found.Title, titleOf(asked)),
		Domain:      ASCII(strings.ToLower(cmp.Or(r.Domain, r.Name+"."+cmp.Or(strings.TrimPrefix(f.Defaults.Ending, "."), "localhost")))),
		forceDomain: r.ForceDomain, forceWeak: r.ForceWeak,
		Folder: cmp.Or(r.Folder, filepath.Join(cmp.Or(f.Defaults.Folder, filepath.Join(f.Home, "sites")), cmp.Or(Shown(r.Name), "NAME"))),
		Group:  strings.TrimSpace(r.Group),
		CMS:    CMS{Name: cmp.Or(r.CMS, first(f.CMSNames))},
		Stack:  Stack{PHP: f.Engine("php", r.PHP), Web: f.Engine("web", r.Web), Database: f.Engine("database", r.Database)},
		Administrator: Administrator{Name: cmp.Or(r.Administrator.Name, cut(latin(r.Name), 50)+"-keeper"),
			Mail: cmp.Or(r.Administrator.Mail, "keeper@"+cmp.Or(r.Name, "name")+".example"), Password: r.Administrator.Password},
	}
	s.Root, s.Prefix, s.Visible = f.Roots[s.CMS.Name], r.Prefix, r.SearchEngines
	s.HTTPS, s.unclear = r.HTTPS == On || r.HTTPS == "" && found.HTTPS, r.HTTPS != "" && r.HTTPS != On && r.HTTPS != Off
	for _, domain := range slices.DeleteFunc(slices.Clone(r.Domains), empty) {
		s.Domains = append(s.Domains, ASCII(strings.ToLower(domain)))
	}
	s.Plugins, s.Themes = r.Plugins, r.Themes
	s.Network, s.SubSites = r.Network, slices.DeleteFunc(slices.Clone(r.SubSites), empty)
	s.Language, s.TimeZone, s.Settings = r.Language, r.TimeZone, found.Settings
	s.Settings = s.Settings.askedFor(r)
	if s.Origin = originOf(r); s.Origin.Kind != "" && f.Found != nil {
		r.CMSVersion = s.madeOf(r, found, fault, own)
	}
	s.choose(r, f)
	if s.Language != "" && f.Languages != nil {
		if names, known := f.Languages(s.CMS); known {
			s.Language = cmp.Or(MatchLanguage(names, s.Language), s.Language)
		}
	}
	s.Touches = wholeTouches(r.Touches, f.Touches[s.CMS.Name])
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

// madeOf has a site be what its origin was found to be; fault is why that cannot be used, and own that an administrator was asked for. It
// returns the version of the CMS that is asked for then.
func (s *Site) madeOf(r Request, found Found, fault string, own bool) (version string) {
	if s.Origin.Kind == FromArchive && found.Parcel {
		s.Origin.Kind = FromParcel
	}
	if slices.Contains([]string{FromStencil, FromSite, FromParcel}, s.Origin.Kind) {
		s.otherNetwork = s.Network != "" && s.Network != found.Network ||
			len(s.SubSites) > 0 && !slices.Equal(s.SubSites, found.SubSites)
		s.Network, s.SubSites, s.Origin.Newest = found.Network, found.SubSites, found.Newest
	}
	s.Origin.OwnAdministrator = s.Origin.Kind == FromParcel && own
	s.Origin.Newest = s.Origin.Newest || s.Origin.Kind == FromStencil && r.CMSVersion == Newest
	if s.Origin.Kind == FromFolder && r.CMS != "" && r.CMS != found.CMS.Name && !found.Recognised {
		s.Origin.Kind, fault = FromRepository, found.Bare
	}
	version = r.CMSVersion
	if version == Newest {
		version = ""
	}
	switch s.Origin.Kind {
	case FromRepository:
	case FromFolder:
		s.CMS, s.Root, s.Folder = found.CMS, found.Root, s.Origin.From
		r.CMSVersion = "" // it is what it is
	default:
		if s.Origin.Kind == FromArchive && found.CMS.Name != ArchiveCMS && r.CMS != ArchiveCMS {
			version, r.CMSVersion = "", "" // it is what it is
		}
		s.CMS, s.Root = CMS{cmp.Or(r.CMS, found.CMS.Name), cmp.Or(version, found.CMS.Version)}, found.Root
	}
	if fault == "" && r.CMS != "" && r.CMS != found.CMS.Name && s.Origin.Kind != FromArchive && s.Origin.Kind != FromRepository {
		fault = fmt.Sprintf("it holds %s, not %s", found.CMS.Name, r.CMS)
	}
	if fault == "" && s.Origin.Kind == FromArchive && !slices.Contains([]string{"", ArchiveCMS, found.CMS.Name}, r.CMS) {
		fault = fmt.Sprintf("it holds nothing that is known as %s", r.CMS)
	}
	s.originFault = fault
	return r.CMSVersion
}

// with is a map with one more value; the map itself stays as it was.
func with(values map[string]string, name, value string) map[string]string {
	more := map[string]string{}
	maps.Copy(more, values)
	more[name] = value
	return more
}

// How something is asked for that is or is not.
const (
	On  = "on"
	Off = "off"
)

// Newest stands for the newest version of a CMS, of those that can be fetched and those on the shelf.
const Newest = "newest"

func empty(text string) bool { return text == "" }

// originOf is where a request wants its files from.
func originOf(r Request) Origin {
	for _, o := range []Origin{{Kind: FromArchive, From: r.Archive}, {Kind: FromFolder, From: r.Adopt}, {Kind: FromStencil, From: r.Stencil},
		{Kind: FromParcel, From: r.Parcel}, {Kind: FromSite, From: r.CopyOf}} {
		if o.From != "" {
			o.Dump, o.SQL, o.Address = r.Dump, r.SQL, strings.TrimSuffix(r.SQLAddress, "/")
			return o
		}
	}
	return Origin{SQL: r.SQL, Address: strings.TrimSuffix(r.SQLAddress, "/")}
}

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

// release is the usual version of a CMS, or where that one does not bear the PHP, the newest that does.
func (f Facts) release(cms, php string) string {
	usual := first(f.Releases[cms])
	fitting := slices.DeleteFunc(slices.Clone(f.Releases[cms]),
		func(v string) bool { return f.Supports != nil && !f.Supports(CMS{cms, v}, php) })
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

// wholeTouches writes finishing touches by their whole names: the ending of one of the user's own may be left out.
func wholeTouches(asked []string, known []TouchFact) []string {
	whole := slices.Clone(asked)
	for i, text := range asked {
		name, value, valued := strings.Cut(text, "=")
		fitting := slices.DeleteFunc(slices.Clone(known), func(t TouchFact) bool {
			return t.Name != name && strings.TrimSuffix(t.Name, filepath.Ext(t.Name)) != name
		})
		if len(fitting) == 1 && fitting[0].Name != name {
			whole[i] = fitting[0].Name
			if valued {
				whole[i] += "=" + value
			}
		}
	}
	return whole
}

// askedFor are the settings that a request itself names.
func (s Settings) askedFor(r Request) Settings {
	s.Outgoing = cmp.Or(r.Outgoing, s.Outgoing)
	if r.TimeZone != "" {
		s.PHP = with(s.PHP, TimeZoneDirective, r.TimeZone)
	}
	return s
}

// choose settles the version of the CMS and the PHP: the newest that fit where that is asked for, and a PHP that bears it.
func (s *Site) choose(r Request, f Facts) {
	if newest := r.CMSVersion == Newest || s.Origin.Newest; newest {
		fitting := slices.DeleteFunc(slices.Clone(f.Releases[s.CMS.Name]), func(v string) bool {
			return r.PHP != "" && f.Supports != nil && !f.Supports(CMS{s.CMS.Name, v}, s.Stack.PHP)
		})
		if len(fitting) > 0 {
			s.CMS.Version = slices.MaxFunc(fitting, CompareVersions)
		}
	}
	s.CMS.Version = cmp.Or(s.CMS.Version, r.CMSVersion, f.release(s.CMS.Name, s.Stack.PHP))
	if r.PHP == "" && f.Supports != nil && !f.Supports(s.CMS, s.Stack.PHP) { // the newest that bears it
		bearing := slices.DeleteFunc(idsOf(f.Engines["php"]), func(id string) bool { return !f.Supports(s.CMS, id) })
		if len(bearing) > 0 {
			s.Stack.PHP = slices.MaxFunc(bearing, CompareVersions)
		}
	}
}
