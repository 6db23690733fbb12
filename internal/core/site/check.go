package site

import (
	"cmp"
	"fmt"
	"net/mail"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// origins judges what a request says of them.
func (c *checker) origin(s Site, f Facts) {
	field := map[string]string{FromArchive: "archive", FromFolder: "adopt", FromRepository: "adopt", FromStencil: "stencil",
		FromSite: "copy_of", FromParcel: "parcel"}[s.Origin.Kind]
	if s.originFault != "" {
		c.add(field, "mend that, or name another", "%s", s.originFault)
	}
	if s.Origin.SQL != "" && !slices.Contains([]string{"", FromArchive, FromFolder, FromRepository}, s.Origin.Kind) {
		c.add("sql", "leave it out, or leave out what the site is made of", "a stencil, a parcel and a copy have a database of their own")
	}
	for _, part := range []struct {
		kind, field string
		asked       []string
	}{{"plugin", "plugins", s.Plugins}, {"theme", "themes", s.Themes}} {
		for _, asked := range part.asked {
			if found, all := f.OnShelf(s.CMS.Name, part.kind, asked); !found {
				c.add(part.field, "choose from "+cmp.Or(strings.Join(all, ", "), "none: put one there first with vessik shelf add FILE"),
					"there is no %s %q for %s on the shelf", part.kind, asked, s.CMS.Name)
			}
		}
	}
	for _, text := range s.Touches {
		name, value, _ := strings.Cut(text, "=")
		known := f.Touches[s.CMS.Name]
		i := slices.IndexFunc(known, func(t TouchFact) bool { return t.Name == name })
		switch {
		case i < 0:
			names := []string{}
			for _, t := range known {
				names = append(names, t.Name)
			}
			c.add("finishing_touches", "choose from "+cmp.Or(strings.Join(names, ", "), "none: this CMS has none"), "%s has no finishing touch %q",
				s.CMS.Name, name)
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
	if modes := f.Networks[s.CMS.Name]; !slices.Contains(modes, s.Network) {
		c.add("network", "choose from "+cmp.Or(strings.Join(modes, ", "), "none: this CMS has none"), "%s makes no network by %q", s.CMS.Name,
			s.Network)
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

// locale judges the language and the time zone.
func (c *checker) locale(s Site, f Facts) {
	if s.Language != "" && f.Languages != nil {
		names, known := f.Languages(s.CMS)
		switch {
		case known && len(names) == 0:
			c.add("language", "leave it out, and choose in the site itself", "nothing is known of the languages of %s", s.CMS.Name)
		case known && !slices.Contains(names, s.Language):
			c.add("language", "choose one of "+strings.Join(names, ", "), "%s %s has no language %q here", s.CMS.Name, s.CMS.Version, s.Language)
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

// grantLimit bounds a database's name as a grant has it, where each _ counts twice: it is escaped there, since it would stand for any
// letter.
const grantLimit = 64

func grantLength(name string) int { return len(name) + strings.Count(name, "_") }

// UnsafeInPath tells whether a path has characters that an engine's configuration cannot hold, however it is quoted.
func UnsafeInPath(path string) bool { return strings.ContainsAny(path, "\"'$\\`;{}%*?[]\n\r\t") }

// Check returns everything that is wrong with a derived site, each with its field and its remedy.
func Check(s Site, f Facts) Problems {
	c := &checker{site: s.Name, weak: s.forceWeak}
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
	if s.unclear {
		c.add("https", "say on or off", "it is neither on nor off")
	}
	judgeOutgoing(c, s.Settings, "")
	return c.problems
}

type checker struct {
	site     string
	weak     bool // what is easily guessed is taken all the same
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
				c.add("name", "choose another name, or retire that site first", "a site named %q exists (%s)", Shown(s.Name), other.State)
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

// RootFault is why a document root cannot be used, by its path inside a site's folder; empty where it can. Whatever brings one in, a
// stencil, a CMS or an archive, is judged by this.
func RootFault(root string) string {
	switch {
	case root == "":
		return ""
	case !filepath.IsLocal(root) || filepath.Clean(root) != root:
		return "leads out of the site's folder"
	case UnsafeInPath(root):
		return "has signs in it that cannot stand in a web server's configuration"
	}
	return ""
}

func (c *checker) folder(s Site, f Facts) {
	if fault := RootFault(s.Root); fault != "" {
		c.add("root", "name a folder inside the site's, such as public", "the document root %q %s", s.Root, fault)
	}
	const remedy = "choose a folder of its own, empty or not yet there"
	if s.Folder == filepath.Join(f.Home, "sites", Shown(s.Name)) && !label.MatchString(s.Name) {
		return // the name is at fault, and said
	}
	if !filepath.IsAbs(s.Folder) {
		c.add("folder", "give an absolute path", "%q is not absolute", s.Folder)
		return
	}
	if UnsafeInPath(s.Folder) {
		c.add("folder", "choose a path without quotes, $, \\, ;, %, braces, brackets and wildcards",
			"%q has characters that a web server's configuration cannot hold", s.Folder)
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
	if nameFault := slices.ContainsFunc(c.problems, func(p Problem) bool { return p.Field == "name" }); len(c.problems) == before &&
		!nameFault {
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
		c.add("port", fmt.Sprintf("choose one from %d to 65535", f.FirstPort), "%d may only be opened by root, and no engine runs as root",
			s.Port)
	case f.KeptPorts[s.Port] != "":
		c.add("port", remedy, "%d is used by Vessik for %s", s.Port, f.KeptPorts[s.Port])
	default:
		for _, other := range f.Sites {
			if other.Port != s.Port {
				continue
			}
			if other.Name != s.Name {
				c.add("port", remedy, "%d belongs to the site %s", s.Port, other.Name)
			}
			return // its own is held by itself
		}
		if holder := f.PortHolder(s.Port); holder != "" {
			c.add("port", remedy, "%d is held by %s", s.Port, holder)
		}
	}
}

func (c *checker) admin(s Site) {
	switch {
	case !userName.MatchString(s.Administrator.Name) && !strings.HasSuffix(s.Administrator.Name, "-keeper"), len(s.Administrator.Name) > 60:
		c.add("administrator.name", "use letters, digits, and . _ @ - inside, 60 characters at most", "%q is not a user name",
			s.Administrator.Name)
	case slices.Contains(guessed, strings.ToLower(s.Administrator.Name)):
		c.guess("administrator.name", "choose a name of your own, such as head-keeper",
			"%q is what everybody tries first, and local habits go live",
			s.Administrator.Name)
	}
	if address, err := mail.ParseAddress(s.Administrator.Mail); err != nil || address.Address != s.Administrator.Mail ||
		!strings.Contains(s.Administrator.Mail,
			".") {
		if label.MatchString(s.Name) {
			c.add("administrator.mail", "write it as name@host.example", "%q is not a mail address", s.Administrator.Mail)
		}
	}
	c.password("administrator.password", s.Administrator.Password, s.Administrator.Name, s.Name)
}

// IsGuessed tells whether a user's name is what everybody tries first.
func IsGuessed(name string) bool { return slices.Contains(guessed, strings.ToLower(name)) }

// UsualPasswords are what everybody tries first as the password of a user.
func UsualPasswords(user string) []string {
	return append([]string{user, user + "123", "12345678", "admin123"}, commonWords...)
}

// CheckTitle judges a title that a site is to have.
func CheckTitle(name, title string) Problems {
	c := &checker{site: name}
	c.title(Site{Name: name, Title: title})
	return c.problems
}

// guess adds what is easily guessed, unless it is taken all the same.
func (c *checker) guess(field, remedy, message string, arguments ...any) {
	if !c.weak {
		c.add(field, remedy+"; or say -force-weak, if it is never to go live", message, arguments...)
		c.problems[len(c.problems)-1].Weak = true
	}
}

// CheckAdmin judges the administrator that a site is to have; weak takes one that is easily guessed.
func CheckAdmin(s Site, weak bool) Problems {
	c := &checker{site: s.Name, weak: weak}
	c.admin(s)
	return c.problems
}

// CheckPassword judges a given password; an empty one is generated later. words must not stand in it; weak takes one that is easily
// guessed.
func CheckPassword(name, field, password string, weak bool, words ...string) Problems {
	c := &checker{site: name, weak: weak}
	c.password(field, password, words...)
	return c.problems
}

// password judges a given password; an empty one is generated later.
func (c *checker) password(field, password string, words ...string) {
	if password == "" {
		return
	}
	const remedy, least = "use 12 characters or more that nobody guesses, or leave it out and one is generated", 8
	lower := strings.ToLower(password)
	distinct := map[rune]bool{}
	for _, r := range password {
		distinct[r] = true
	}
	switch {
	case strings.ContainsFunc(password, unicode.IsControl) || !utf8.ValidString(password) || strings.TrimSpace(password) != password:
		c.add(field, remedy, "has control characters, or spaces at an end")
	case utf8.RuneCountInString(password) < least:
		c.add(field, remedy, "is %d characters short of 12", 12-utf8.RuneCountInString(password))
	case len(password) > 128:
		c.add(field, "use 128 bytes at most", "is %d bytes long", len(password))
	case utf8.RuneCountInString(password) < 12:
		c.guess(field, remedy, "is %d characters short of 12", 12-utf8.RuneCountInString(password))
	case len(distinct) < 6:
		c.guess(field, remedy, "has only %d different characters", len(distinct))
	default:
		for _, word := range append(slices.Clone(commonWords), words...) {
			if word != "" && strings.Contains(lower, strings.ToLower(word)) {
				c.guess(field, remedy, "contains %q", word)
				return
			}
		}
	}
}

func (c *checker) stack(s Site, f Facts) {
	for _, part := range []struct{ field, kind, id string }{{"php", "php", s.Stack.PHP}, {"web", "web", s.Stack.Web},
		{"database", "database", s.Stack.Database}} {
		if ids := idsOf(f.Engines[part.kind]); !slices.Contains(ids, part.id) {
			c.add(part.field, "choose one of "+strings.Join(ids, ", "), "no %s engine fits %q", part.kind, part.id)
		}
	}
	definitions := []string{}
	for name := range f.Releases {
		definitions = append(definitions, name)
	}
	slices.Sort(definitions)
	if s.Origin.Kind != "" && s.Origin.Kind != FromRepository { // its version is what it is
		if !slices.Contains(f.CMSNames, s.CMS.Name) && s.originFault == "" {
			c.add("cms", "choose one of "+strings.Join(definitions, ", "), "there is no CMS %q", s.CMS.Name)
		}
	} else if versions, ok := f.Releases[s.CMS.Name]; !ok {
		c.add("cms", "choose one of "+strings.Join(definitions, ", "), "there is no CMS %q", s.CMS.Name)
	} else if !slices.Contains(versions, s.CMS.Version) {
		c.add("cms_version", "choose one of "+strings.Join(versions, ", "), "there is no %s %q", s.CMS.Name, s.CMS.Version)
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
				c.add(part.field, fmt.Sprintf("use letters, digits and _, %d at most, where _ counts twice", part.limit), "%q cannot be used",
					part.value)
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

// CheckSettled says that something is being done with a site, where it is.
func CheckSettled(s Site) Problems {
	if s.State == Running || s.State == Stopped || s.State == Failed {
		return nil
	}
	return Problems{{Site: s.Name, Field: "name", Message: "the site is " + string(s.State), Remedy: "wait for it"}}
}
