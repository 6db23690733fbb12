// Package wire holds the objects that the service and its clients exchange, besides those that other core packages define.
package wire

import (
	"time"

	"vessik/internal/core/plan"
	"vessik/internal/core/site"
)

// Site is a site as clients see it.
type Site struct {
	Name string `json:"name"`
	// NameUnicode is the name as people read it, where that differs.
	NameUnicode string     `json:"name_unicode,omitempty"`
	Title       string     `json:"title"`
	State       site.State `json:"state" enum:"making,starting,running,stopping,stopped,failed,retiring"`
	Reason      string     `json:"reason,omitempty" doc:"Why it failed"`
	Notice      string     `json:"notice,omitempty" doc:"Something to know, such as another port"`
	URL         string     `json:"url"`
	Domain      string     `json:"domain"`
	// DomainUnicode is the domain as people read it, where that differs.
	DomainUnicode string             `json:"domain_unicode,omitempty"`
	Domains       []string           `json:"domains,omitempty" doc:"Further ones that it answers for"`
	Forwards      []site.Forward     `json:"forwards,omitempty" doc:"That it had before, and that still lead to it"`
	HTTPS         bool               `json:"https,omitempty" doc:"It answers over https alone"`
	Network       string             `json:"network,omitempty" doc:"How the sub-sites of one installation are addressed: folders or domains"`
	SubSites      []string           `json:"sub_sites,omitempty" doc:"Their addresses"`
	Plugins       []string           `json:"plugins,omitempty" doc:"Of the shelf, that it was made with"`
	Themes        []string           `json:"themes,omitempty"`
	Folder        string             `json:"folder"`
	DocumentRoot  string             `json:"document_root"`
	CMS           TitledCMS          `json:"cms"`
	SignIn        string             `json:"sign_in,omitempty" doc:"Address of the login form, where the CMS knows it"`
	Stack         FullStack          `json:"stack"`
	Port          int                `json:"port"`
	Resting       bool               `json:"resting" doc:"Running, with its PHP not loaded until somebody asks"`
	PHPErrors     int                `json:"php_errors" doc:"Places in its code of which PHP complained, since that was last forgotten"`
	Origin        site.Origin        `json:"origin,omitzero"`
	Group         string             `json:"group" doc:"Label under which the fleet shows it"`
	Note          string             `json:"note"`
	Pinned        bool               `json:"pinned" doc:"Kept above the others"`
	TrialOf       string             `json:"trial_of,omitempty" doc:"A temporary copy of that site"`
	Database      Database           `json:"database"`
	Language      string             `json:"language,omitempty" doc:"As the CMS writes it; empty for its usual one"`
	TimeZone      string             `json:"time_zone,omitempty"`
	SearchEngines bool               `json:"search_engines,omitempty" doc:"They may list it"`
	PHPIni        map[string]string  `json:"php_ini,omitempty" doc:"php.ini settings of its own"`
	Outgoing      string             `json:"outgoing" enum:"web,open,closed" doc:"What it may ask of other machines"`
	Reach         []string           `json:"outgoing_allow,omitempty" doc:"Hosts, networks and ports that it may ask in any case"`
	Refuse        []string           `json:"outgoing_refuse,omitempty" doc:"Those that it may not ask in any case"`
	Touches       []string           `json:"finishing_touches,omitempty" doc:"That it was made with"`
	Prefix        string             `json:"prefix" doc:"Begins the names of the CMS's tables"`
	Administrator site.Administrator `json:"administrator"`
	CreatedAt     time.Time          `json:"created_at"`
}

// TitledCMS is a CMS and its version.
type TitledCMS struct {
	Name    string `json:"name" example:"wordpress"`
	Version string `json:"version" example:"6.8"`
	Title   string `json:"title" doc:"As people call it" example:"WordPress"`
}

// FullStack is the three engines with their full versions, empty where an engine has not been fetched.
type FullStack struct {
	PHP      StackEngine `json:"php"`
	Web      StackEngine `json:"web"`
	Database StackEngine `json:"database"`
}

// StackEngine is one engine of a stack.
type StackEngine struct {
	Engine  string `json:"engine" example:"php-8.4"`
	Version string `json:"version"`
}

// Database is where a site's data lies.
type Database struct {
	Host     string `json:"host"`
	Port     int    `json:"port"`
	Name     string `json:"name"`
	User     string `json:"user"`
	Password string `json:"password,omitempty" doc:"Only when secrets are asked for"`
}

// SitesPreview is what requests would become, and what is wrong with them.
type SitesPreview struct {
	Sites    []Site         `json:"sites" nullable:"false"`
	Plans    []Planned      `json:"plans" nullable:"false"`
	Problems []site.Problem `json:"problems" nullable:"false"`
}

// Planned is what would be done for one new site.
type Planned struct {
	Site  string   `json:"site"`
	Steps []string `json:"steps" nullable:"false" doc:"In words, in order"`
	// Changes are all that would be changed in a folder that is there already.
	Changes []string `json:"changes,omitempty" doc:"In an adopted folder; given back when the site is retired"`
	Holds   string   `json:"holds,omitempty" doc:"What an archive was found to hold"`
}

// Names asks for something to be done with sites.
type Names struct {
	Names     []string `json:"names,omitempty" doc:"Which sites"`
	All       bool     `json:"all,omitempty" doc:"All sites there are"`
	KeepFiles bool     `json:"keep_files,omitempty" doc:"Retire only: keep the folder, and the database as a dump"`
}

// Engine is one row of the catalogue.
type Engine struct {
	ID         string     `json:"id"`
	Kind       string     `json:"kind" enum:"php,web,database,release,languages"`
	Generation string     `json:"generation" doc:"Debian's release that it comes from"`
	Age        int        `json:"age" doc:"Orders engines of one version: the newer the release, the higher"`
	Present    bool       `json:"present" doc:"It has been fetched"`
	Version    string     `json:"version" doc:"In full; empty unless present"`
	SizeBytes  int64      `json:"size_bytes"`
	FetchedAt  *time.Time `json:"fetched_at"`
	Sites      []string   `json:"sites" nullable:"false" doc:"Sites that are on it"`
	Processes  []int      `json:"processes" nullable:"false"`
	// MemoryBytes is that of its processes and their children (proportional set size).
	MemoryBytes int64             `json:"memory_bytes"`
	From        string            `json:"from" doc:"Debian's release, or the folder that it was adopted from"`
	Note        string            `json:"note,omitempty"`
	Variables   map[string]string `json:"variables,omitempty" doc:"Server variables that were set for a database engine"`
}

// Engines are the catalogue and what it takes on disk.
type Engines struct {
	Engines []Engine         `json:"engines" nullable:"false"`
	Disk    map[string]int64 `json:"disk" doc:"Bytes by generation, files that engines share counted once; CMS releases not among them"`
}

// EngineIDs names engines, in full or in part.
type EngineIDs struct {
	IDs []string `json:"ids" minItems:"1"`
}

// Adopt names an engine of the user's own.
type Adopt struct {
	ID   string `json:"id" example:"php-8.3"`
	Path string `json:"path" doc:"Folder that holds its bin or sbin"`
}

// Variables are server variables of a database engine.
type Variables struct {
	Variables map[string]string `json:"variables" doc:"An empty value takes one back"`
}

// VariablesPage is what a database engine's server variables are set to, and what they were.
type VariablesPage struct {
	Engine    string                `json:"engine"`
	Variables map[string]string     `json:"variables" nullable:"false" doc:"Those that were set; all others are as the server has them"`
	History   []plan.VariablesEntry `json:"history" nullable:"false"`
}

// CMSInfo is one CMS that sites can be made of.
type CMSInfo struct {
	Name      string   `json:"name"`
	Title     string   `json:"title"`
	About     string   `json:"about"`
	Versions  []string `json:"versions" nullable:"false" doc:"The usual one first"`
	From      string   `json:"from" doc:"Folder of the user's own CMS; empty for one that Vessik brings"`
	Touches   []Touch  `json:"finishing_touches" nullable:"false"`
	Languages []string `json:"languages" nullable:"false" doc:"Of its usual version, as far as they have been fetched"`
	// HostExtensions and HostWritable are what a host must offer for such a site to be moved there.
	HostExtensions []string `json:"host_extensions" nullable:"false" doc:"Of PHP"`
	HostWritable   []string `json:"host_writable" nullable:"false" doc:"Paths that PHP writes to"`
	Networks       []string `json:"networks" nullable:"false" doc:"How several sites in one installation may be addressed"`
	// ListsParts says that the plugins and themes of its sites are known.
	ListsParts bool `json:"lists_parts"`
	// SignsIn says that a ticket can be drawn for its users.
	SignsIn bool     `json:"signs_in"`
	Sites   []string `json:"sites" nullable:"false"`
}

// Touch is a finishing touch of a CMS.
type Touch struct {
	Name    string `json:"name"`
	About   string `json:"about"`
	Value   string `json:"value,omitempty" doc:"What its value says; empty where it takes none"`
	Example string `json:"example,omitempty" doc:"A value"`
	Own     bool   `json:"own" doc:"The user's, for every CMS"`
}

// CMSPage is all of them, and what is wrong with the user's own definitions.
type CMSPage struct {
	CMS    []CMSInfo         `json:"cms" nullable:"false"`
	Faults map[string]string `json:"faults" nullable:"false" doc:"By folder"`
	Folder string            `json:"folder" doc:"Where the user's own CMS definitions are put"`
	// TouchFolder is where the user's own finishing touches are put.
	TouchFolder string `json:"touch_folder"`
}

// Stencil is a saved site that new ones are drawn from.
type Stencil struct {
	Format      string     `json:"format"`
	Name        string     `json:"name"`
	Description string     `json:"description"`
	From        string     `json:"from" doc:"Site that it was saved from"`
	Title       string     `json:"title"`
	CMS         site.CMS   `json:"cms"`
	Root        string     `json:"root,omitempty" doc:"Document root inside the folder"`
	Prefix      string     `json:"prefix" doc:"Begins the names of its tables"`
	NewestCMS   bool       `json:"newest_cms,omitempty" doc:"Sites are drawn with the newest release of its CMS"`
	Network     string     `json:"network,omitempty" doc:"Several sites in one: by folders or domains"`
	SubSites    []string   `json:"sub_sites,omitempty"`
	URL         string     `json:"url" doc:"Base address in its database, without a trailing slash"`
	Folder      string     `json:"folder,omitempty" doc:"Where its files stood; paths below it lead to the new site's folder"`
	Stack       site.Stack `json:"stack" doc:"What it was saved on"`
	// Settings are what sites drawn from it are given: php.ini settings and extensions, nothing that names what a machine has.
	Settings site.Settings `json:"settings,omitzero" doc:"php.ini settings and extensions that it brings"`
	// Shared are places of further folders of the site that it was saved from, which are no part of it.
	Shared        []string  `json:"shared,omitempty" doc:"Places at which further folders stood, which it does not hold"`
	CreatedAt     time.Time `json:"created_at"`
	Files         int       `json:"files"`
	FileBytes     int64     `json:"file_bytes"`
	DatabaseBytes int64     `json:"database_bytes"`
	LinksLeftOut  int       `json:"links_left_out,omitempty" doc:"Symbolic links are not taken along"`
	SizeBytes     int64     `json:"size_bytes" doc:"Of the file"`
	HasPicture    bool      `json:"has_picture"`
}

// Rename gives a site another name or domain.
type Rename struct {
	Name        string `json:"name,omitempty" doc:"Its new name; stays where empty" example:"apple-days"`
	Domain      string `json:"domain,omitempty" doc:"Its new domain; follows the name where it was derived from it"`
	ForceDomain bool   `json:"force_domain,omitempty" doc:"Also an ending that is public"`
	HTTPS       string `json:"https,omitempty" enum:"on,off" doc:"Whether it answers over https; as it is where empty"`
	Stay        bool   `json:"stay,omitempty" doc:"Stay with the change although a check fails"`
}

// Domains are the further ones that a site answers for.
type Domains struct {
	Domains     []string `json:"domains" nullable:"false"`
	Drop        []string `json:"drop,omitempty" doc:"Domains that it had before and that are to lead to it no longer"`
	ForceDomain bool     `json:"force_domain,omitempty" doc:"Also an ending that is public"`
}

// ShelfItem is a release, plugin or theme that is kept on this machine.
type ShelfItem struct {
	File      string    `json:"file" example:"garden-menu.1.2.zip"`
	Kind      string    `json:"kind" enum:"release,plugin,theme,"`
	CMS       string    `json:"cms" doc:"The CMS that it is for"`
	Name      string    `json:"name" doc:"What it is asked for by"`
	Title     string    `json:"title"`
	Version   string    `json:"version"`
	Main      string    `json:"-"` // the file in it that says so; of a release, its top folder
	SHA256    string    `json:"sha256"`
	SizeBytes int64     `json:"size_bytes"`
	AddedAt   time.Time `json:"added_at"`
	Fault     string    `json:"fault,omitempty" doc:"Why it cannot be used"`
}

// ShelfPage is all of them.
type ShelfPage struct {
	Folder string      `json:"folder" doc:"Where archives may be dropped"`
	Items  []ShelfItem `json:"items" nullable:"false"`
}

// FetchToShelf names an archive to be fetched: one of the two.
type FetchToShelf struct {
	Address string `json:"address,omitempty" example:"https://plugins.example/garden-menu.1.2.zip"`
	Package string `json:"package,omitempty" doc:"Debian package of plugins or themes" example:"wordpress-theme-twentytwentytwo"`
}

// HostsPage says which domains this machine has to be told of: those that do not end in .localhost.
type HostsPage struct {
	Domains  []string `json:"domains" nullable:"false"`
	NotFound []string `json:"not_found" nullable:"false" doc:"Those that do not lead to this machine yet"`
	File     string   `json:"file" doc:"The hosts file"`
	Block    string   `json:"block" doc:"What belongs into it, between two marks"`
	Current  bool     `json:"current" doc:"It holds just that"`
	Allowed  bool     `json:"allowed" doc:"The user lets the service keep it so"`
	Writable bool     `json:"writable" doc:"The service's account may write it"`
	Fault    string   `json:"fault,omitempty"`
	Resolver string   `json:"resolver" doc:"Where the service answers questions for names (DNS); empty where it does not"`
	Endings  []string `json:"endings,omitempty" doc:"That a resolver can be pointed there for"`
}

// AllowHosts lets the service keep a block in the hosts file, or no longer.
type AllowHosts struct {
	Allow bool `json:"allow"`
}

// WriteSiteFile asks for a site's own file in its folder.
type WriteSiteFile struct {
	Content bool `json:"content,omitempty" doc:"With a dump of the database beside it, without passwords"`
}

// Written names files that were written.
type Written struct {
	Files []string `json:"files" nullable:"false"`
}

// FleetText is the text of a fleet file.
type FleetText struct {
	Text string `json:"text"`
}

// LoadSQL puts a dump in the place of a site's database.
type LoadSQL struct {
	SQL     string `json:"sql" doc:"File of the dump, plain or compressed with gzip or Zstandard; an absolute path"`
	Address string `json:"address,omitempty" doc:"Base address in it; found where the CMS knows how"`
	Stay    bool   `json:"stay,omitempty" doc:"Stay with it although a check fails"`
}

// Label changes how sites are shown; what is left out stays.
type Label struct {
	Names  []string `json:"names" minItems:"1"`
	Group  *string  `json:"group,omitempty"`
	Note   *string  `json:"note,omitempty"`
	Pinned *bool    `json:"pinned,omitempty"`
}

// DefaultsPage is what new sites have in common.
type DefaultsPage struct {
	File     string    `json:"file"`
	Settings []Default `json:"settings" nullable:"false"`
	Warnings []string  `json:"warnings" nullable:"false"`
}

// Default is one thing that new sites can have in common.
type Default struct {
	Name  string `json:"name"`
	About string `json:"about"`
	Value string `json:"value" doc:"Empty where it is not set"`
	Usual string `json:"usual" doc:"What holds where it is not set"`
	From  string `json:"from" enum:"built in,vessik.yaml"`
	// Others are the sites that have another value.
	Others []string `json:"others" nullable:"false"`
}

// SetDefaults sets some of them; an empty value takes one back.
type SetDefaults struct {
	Settings map[string]string `json:"settings"`
}

// SaveStencil asks for a site to be saved.
type SaveStencil struct {
	As          string `json:"as" doc:"The stencil's name" example:"garden-basics"`
	Description string `json:"description,omitempty" maxLength:"2000"`
	Settings    bool   `json:"settings,omitempty" doc:"Its php.ini settings and extensions go with it"`
	NewestCMS   bool   `json:"newest_cms,omitempty" doc:"Sites are to be drawn with the newest release of its CMS"`
}

// DescribeStencil changes what a stencil is called.
type DescribeStencil struct {
	Name        string `json:"name,omitempty" doc:"Its new name; stays where empty"`
	Description string `json:"description" maxLength:"2000"`
}

// User is one of a site's own users.
type User struct {
	Login string `json:"login"`
	Name  string `json:"name"`
	Mail  string `json:"mail"`
	Role  string `json:"role"`
}

// AskTicket asks for a ticket.
type AskTicket struct {
	As string `json:"as,omitempty" doc:"Login; the administrator where empty"`
}

// Ticket is an address that signs a browser in to a site, once.
type Ticket struct {
	URL       string    `json:"url"`
	User      string    `json:"user"`
	ExpiresAt time.Time `json:"expires_at"`
}

// NewPassword is a password; asked for, it is generated where empty.
type NewPassword struct {
	Password  string `json:"password"`
	ForceWeak bool   `json:"force_weak,omitempty" doc:"Also one that is easily guessed"`
}

// NewAdministrator asks for a site's administrator in the place of one of its users, with everything that this one wrote.
type NewAdministrator struct {
	Replace   string `json:"replace" doc:"Login of the user who becomes the administrator"`
	By        string `json:"by,omitempty" doc:"Login that the administrator has then; the site's own where empty"`
	Mail      string `json:"mail,omitempty" doc:"Mail address; the site's own where empty"`
	Password  string `json:"password,omitempty" doc:"12 characters or more; generated where empty"`
	ForceWeak bool   `json:"force_weak,omitempty" doc:"Also a name or a password that is easily guessed"`
}

// Restack asks for another stack; engines in full or in part, empty ones stay.
type Restack struct {
	PHP      string `json:"php,omitempty"`
	Web      string `json:"web,omitempty"`
	Database string `json:"database,omitempty"`
	Stay     bool   `json:"stay,omitempty" doc:"Stay on the new stack although a check fails on it"`
	Walk     bool   `json:"walk,omitempty" doc:"Walk through all pages before and after, and go back where one is worse off"`
}

// RestackPreview is what a change of stack would do.
type RestackPreview struct {
	Before    site.Stack `json:"before"`
	After     site.Stack `json:"after"`
	Steps     []string   `json:"steps" nullable:"false"`
	Fetch     []string   `json:"fetch" nullable:"false" doc:"Engines that are fetched first"`
	Supported string     `json:"supported" doc:"What the CMS's version is known to support"`
	Warning   string     `json:"warning,omitempty" doc:"Where the new stack is not among it"`
	Downtime  string     `json:"downtime" doc:"What visitors will notice"`
}

// Adjust asks for other settings.
type Adjust struct {
	Settings site.Settings `json:"settings"`
	Stay     bool          `json:"stay,omitempty" doc:"Stay with them although a check fails with them"`
}

// SettingsPage is what a site's engines are set to, and what could be.
type SettingsPage struct {
	Settings   site.Settings        `json:"settings"`
	Usual      map[string]string    `json:"usual" doc:"php.ini values that hold where the site has none of its own"`
	Extensions []string             `json:"extensions" nullable:"false" doc:"Those that can be switched"`
	Extras     []string             `json:"extras" nullable:"false" doc:"Fetched besides: off unless the site switches them on"`
	Directives []string             `json:"directives" nullable:"false" doc:"php.ini directives that this PHP knows"`
	Xdebug     bool                 `json:"has_xdebug"`
	History    []plan.SettingsEntry `json:"history" nullable:"false"`
	Limits     []Limit              `json:"limits" nullable:"false" doc:"What the site may take, and takes at this moment"`
}

// Limit is one thing that is limited, in bytes or processes.
type Limit struct {
	Name string `json:"name" enum:"memory,processes,processor,disk"`
	Most int64  `json:"most" doc:"0 is no limit"`
	Used int64  `json:"used"`
}

// TrialRequest asks for a trial. Engines are lists of parts of their ids, or "all".
type TrialRequest struct {
	PHP        string   `json:"php,omitempty" example:"all"`
	Web        string   `json:"web,omitempty" example:"nginx,apache"`
	Database   string   `json:"database,omitempty" example:"10.11,11.8"`
	Visit      []string `json:"visit,omitempty" doc:"Paths to ask besides the front page"`
	KeepCopies bool     `json:"keep_copies,omitempty" doc:"Keep the copies as sites"`
	NoPicture  bool     `json:"no_picture,omitempty"`
	Walk       bool     `json:"walk,omitempty" doc:"Walk through all pages of the copies, and compare them with the site's own"`
}

// Info is everything that a site runs on, as told by a request that it served.
type Info struct {
	Site    string      `json:"site"`
	At      time.Time   `json:"at"`
	Entries []InfoEntry `json:"entries" nullable:"false"`
}

// InfoEntry is one fact.
type InfoEntry struct {
	Section string `json:"section"`
	Name    string `json:"name"`
	Value   string `json:"value"`
}

// Log is one of a site's logs.
type Log struct {
	Name      string `json:"name"`
	About     string `json:"about"`
	Path      string `json:"path"`
	SizeBytes int64  `json:"size_bytes"`
}

// LogLine is one line of a log.
type LogLine struct {
	Log  string `json:"log"`
	Text string `json:"text"`
}

// Command is one that is run as a site's own.
type Command struct {
	Arguments   []string          `json:"arguments"` // none for a shell
	Environment map[string]string `json:"environment,omitempty"`
	Folder      string            `json:"folder,omitempty"` // where to run it, if it lies in the site's
	Terminal    *TerminalSize     `json:"terminal,omitempty"`
}

// TerminalSize is in characters.
type TerminalSize struct {
	Rows    uint16 `json:"rows"`
	Columns uint16 `json:"columns"`
}

// CommandEvent is said about a running command: one field of it.
type CommandEvent struct {
	Size       *TerminalSize `json:"size,omitempty"`
	EndOfInput bool          `json:"end_of_input,omitempty"`
	Seen       int64         `json:"seen,omitempty" doc:"Of a terminal of the console: how many more bytes of its output were shown"`
	Exit       *int          `json:"exit,omitempty"`
	Problem    string        `json:"problem,omitempty"`
}

// Streams of a command, by which its binary messages begin.
const (
	StandardOutput = 1
	StandardError  = 2
)

// Environment is what a command needs to run as one of a site's own.
type Environment struct {
	Site      string            `json:"site"`
	Folder    string            `json:"folder"`
	Path      string            `json:"path" doc:"Folder of programs to be found first: php, mariadb"`
	Account   int               `json:"account" doc:"User id of the account that the site belongs to"`
	Variables map[string]string `json:"variables"`
}

// Status is the service itself.
type Status struct {
	Version     string         `json:"version"`
	Home        string         `json:"home"`
	EngineStore string         `json:"engine_store"`
	Account     string         `json:"account"`
	PID         int            `json:"pid"`
	StartedAt   time.Time      `json:"started_at"`
	API         string         `json:"api"`
	Console     string         `json:"console"`
	HTTPSPort   int            `json:"https_port" doc:"Of the gateway, for https"`
	GatewayPort int            `json:"gateway_port"`
	Sites       map[string]int `json:"sites" doc:"Number of sites by state"`
	Settling    bool           `json:"settling" doc:"It is still bringing its home back to where it was"`
	Confinement Confinement    `json:"confinement"`
}

// Confinement is what this kernel lets Vessik do to keep sites apart.
type Confinement struct {
	LandlockABI int    `json:"landlock_abi" doc:"0 when absent"`
	Files       bool   `json:"files" doc:"Site PHP is held to its own folder"`
	Signals     bool   `json:"signals" doc:"Site PHP cannot signal other processes"`
	Sockets     bool   `json:"sockets" doc:"Site PHP cannot open unix sockets"`
	Cells       bool   `json:"cells" doc:"Sites live in cells of their own: namespaces in which there is nothing but what is the site's"`
	Governed    bool   `json:"governed" doc:"The service decides on every connection of a site, and hands in the sockets"`
	Why         string `json:"why,omitempty" doc:"Why there are no cells"`
}

// ProblemDetails is an error as RFC 9457 has it, with one entry a field.
type ProblemDetails struct {
	Type   string         `json:"type" example:"about:blank"`
	Title  string         `json:"title"`
	Status int            `json:"status"`
	Detail string         `json:"detail"`
	Errors []site.Problem `json:"errors,omitempty"`
}

func (p *ProblemDetails) Error() string {
	if len(p.Errors) == 0 {
		return p.Detail
	}
	return p.Detail + ":\n" + site.Problems(p.Errors).Error()
}

// GetStatus is the HTTP status.
func (p *ProblemDetails) GetStatus() int { return p.Status }

// ContentType is RFC 9457's.
func (p *ProblemDetails) ContentType(string) string { return "application/problem+json" }

// ServiceFile is what a running service leaves in its home for its clients.
type ServiceFile struct {
	API string `json:"api" example:"http://127.0.0.1:20070"`
	PID int    `json:"pid"`
}

// SiteChanges are sites that have changed, as they are now, and the names that no site has any more.
type SiteChanges struct {
	Changed []Site   `json:"changed" nullable:"false"`
	Gone    []string `json:"gone" nullable:"false"`
}
