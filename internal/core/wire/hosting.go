package wire

import (
	"time"

	"vessik/internal/core/site"
)

// Account is a hosting account that sites are pulled from and pushed to.
type Account struct {
	Name     string    `json:"name" example:"orchard-live"`
	At       string    `json:"at" example:"sftp://ines@host.example/www"`
	URL      string    `json:"url" doc:"Base address of the site there"`
	Of       string    `json:"of,omitempty" doc:"The account that it belongs to: staging of a live one"`
	HostKey  string    `json:"fingerprint,omitempty" doc:"Of the host's key, pinned since it was first reached"`
	SignIn   string    `json:"sign_in" enum:"password,key,agent,page,none"`
	Page     string    `json:"page,omitempty" doc:"Of a host that lends credentials for it"`
	MadeAt   time.Time `json:"made_at"`
	Site     string    `json:"site,omitempty" doc:"The site here that was moved from or to it last"`
	Pulled   *Fetched  `json:"pulled,omitempty" doc:"What was fetched of it last"`
	Leftover string    `json:"leftover,omitempty" doc:"A helper of ours that could not be removed at the host yet"`
}

// AddAccount says what a hosting account is. Its secrets are sealed in the records, and never told again.
type AddAccount struct {
	Name     string `json:"name" example:"orchard-live"`
	At       string `json:"at" doc:"sftp://user@host:port/folder, or ftps, or ftp" example:"sftp://ines@host.example/www"`
	URL      string `json:"url" doc:"Base address of the site there" example:"https://orchard.example"`
	Of       string `json:"of,omitempty" doc:"The account that it belongs to: staging of a live one"`
	Password string `json:"password,omitempty"`
	Key      string `json:"key,omitempty" doc:"Private key, as OpenSSH keeps it; a password opens it"`
	Agent    string `json:"agent,omitempty" doc:"Socket of an SSH agent, an absolute path"`
	Like     string `json:"like,omitempty" doc:"An account whose credentials it has as well"`
	// Of one that was signed in to at its host's page: the rest is told by it.
	SignInID    string `json:"sign_in,omitempty" doc:"A sign-in at the host's page, by its id"`
	Environment string `json:"environment,omitempty" doc:"One that it told"`
}

// AskHostSignIn begins to sign in at a host's page.
type AskHostSignIn struct {
	Page string `json:"page" doc:"Its address" example:"https://host.example"`
}

// HostSignIn is a sign-in at a host's page, by the OAuth 2.0 device flow (RFC 8628).
type HostSignIn struct {
	ID              string            `json:"id"`
	Page            string            `json:"page"`
	State           string            `json:"state" enum:"waiting,done,refused"`
	Why             string            `json:"why,omitempty" doc:"It was refused"`
	Code            string            `json:"code" doc:"To be compared with, or typed at, the host's page"`
	Address         string            `json:"address" doc:"Of the page where the code is typed"`
	AddressWithCode string            `json:"address_with_code,omitempty"`
	Until           time.Time         `json:"until" doc:"The code is good"`
	Environments    []HostEnvironment `json:"environments" nullable:"false"`
}

// HostEnvironment is where a customer of a host has a site.
type HostEnvironment struct {
	Name string `json:"name"`
	Kind string `json:"kind" doc:"live, staging"`
	URL  string `json:"url"`
	At   string `json:"at"`
	Of   string `json:"of,omitempty" doc:"The live one, of staging"`
}

// AccountPictures are pictures of the front pages of a live site, and of the site here that was moved from or to it last.
type AccountPictures struct {
	Account   string    `json:"account"`
	Site      string    `json:"site"`
	At        time.Time `json:"at"`
	Different float64   `json:"different" doc:"Share of their pixels in which they differ, 0 to 1"`
}

// SignInAgain gives an account what a new sign-in at its host's page brought.
type SignInAgain struct {
	ID string `json:"id"`
}

// HostChecks is what was found of a hosting account, one by one.
type HostChecks struct {
	Account string      `json:"account"`
	Passed  bool        `json:"passed"`
	Checks  []HostCheck `json:"checks" nullable:"false"`
}

// HostCheck is one thing that was looked at.
type HostCheck struct {
	ID       string `json:"id" example:"signed-in"`
	Title    string `json:"title"`
	Passed   bool   `json:"passed"`
	Observed string `json:"observed"`
	Remedy   string `json:"remedy,omitempty"`
}

// Fetch says what is to be brought here of a hosting account.
type Fetch struct {
	Without      []string `json:"without,omitempty" doc:"uploads, or paths at the host; what was fetched of them before stays"`
	DryRun       bool     `json:"dry_run,omitempty" doc:"Look, and carry nothing"`
	Mask         bool     `json:"mask,omitempty" doc:"People cannot be recognised in what is fetched"`
	Empty        []string `json:"empty,omitempty" doc:"Tables whose rows stay at the host"`
	ByNeed       bool     `json:"by_need,omitempty" doc:"Uploads stay at the host"`
	NewerUploads bool     `json:"newer_uploads,omitempty" doc:"Of uploads, only those that came since the last fetch"`
	Into         string   `json:"into,omitempty" doc:"A site that it is to be put into: what that would lose is told"`
}

// Fetched is what was found at a host, and what was carried.
type Fetched struct {
	At           time.Time     `json:"at,omitzero"`
	CMS          site.CMS      `json:"cms,omitzero"`
	Title        string        `json:"title,omitempty"`
	Stack        site.Stack    `json:"stack,omitzero" doc:"The nearest to the host's"`
	PHP          string        `json:"php,omitempty" doc:"Version at the host"`
	Database     string        `json:"database,omitempty" doc:"Version at the host"`
	Files        int           `json:"files"`
	FileBytes    int64         `json:"file_bytes"`
	New          int           `json:"new" doc:"Files that are not here"`
	Changed      int           `json:"changed"`
	Gone         int           `json:"gone" doc:"Files that are no longer at the host"`
	CarryBytes   int64         `json:"carry_bytes" doc:"What new and changed files take"`
	Carried      int64         `json:"carried" doc:"Bytes of files that were carried"`
	DumpBytes    int64         `json:"dump_bytes,omitempty"`
	DumpParts    int           `json:"dump_parts,omitempty" doc:"Requests in which the database was read, each at its own moment"`
	Masked       bool          `json:"masked,omitempty" doc:"People cannot be recognised in it"`
	NewerUploads int           `json:"newer_uploads,omitempty" doc:"Uploads that came since the last fetch, and are in the site now"`
	Replaces     *PullReplaces `json:"replaces,omitempty"`
	Warnings     []string      `json:"warnings,omitempty"`
}

// PullReplaces is what was changed in a site since the last move, and is not at the host: put into the site, the host's takes its place.
type PullReplaces struct {
	Files  int           `json:"files"`
	Names  []string      `json:"names" nullable:"false" doc:"The first of them"`
	Tables []PushedTable `json:"tables" nullable:"false" doc:"new are rows that are only here"`
}

// Push says what of a site is brought to a hosting account.
type Push struct {
	Site      string   `json:"site"`
	Only      string   `json:"only,omitempty" enum:"files,database" doc:"Empty for both"`
	Paths     []string `json:"paths,omitempty" doc:"Paths in the site's folder, besides which no file is pushed"`
	Tables    []string `json:"tables,omitempty" doc:"Tables as they are called at the host, besides which none is pushed"`
	People    bool     `json:"people,omitempty" doc:"Also tables that tell of people, which stay the host's otherwise"`
	Keep      []string `json:"keep,omitempty" doc:"Paths and tables that stay what they are at the host"`
	Overwrite bool     `json:"overwrite,omitempty" doc:"Also what was changed at the host since the last move"`
	DryRun    bool     `json:"dry_run,omitempty" doc:"Tell what would be pushed, and change nothing at the host"`
	Stay      bool     `json:"stay,omitempty" doc:"Stay with it although the live site answers worse than before"`
	Walk      bool     `json:"walk,omitempty" doc:"Ask up to 200 pages of the live site before and after, not its front page alone"`
}

// PushBack takes the last push to a hosting account back.
type PushBack struct {
	Overwrite bool `json:"overwrite,omitempty" doc:"Also what was changed at the host since then"`
}

// Pushed is what is pushed, or would be.
type Pushed struct {
	Account     string        `json:"account"`
	Site        string        `json:"site"`
	Files       []PushedFile  `json:"files" nullable:"false" doc:"The first of them; the counts are of all"`
	Tables      []PushedTable `json:"tables" nullable:"false"`
	New         int           `json:"new"`
	Changed     int           `json:"changed"`
	Gone        int           `json:"gone"`
	Bytes       int64         `json:"bytes" doc:"That files and tables to be carried take"`
	Stays       int           `json:"stays" doc:"Files that were changed or made at the host, and not here: they stay"`
	StaysTables []string      `json:"stays_tables,omitempty" doc:"Tables that were changed at the host alone, or tell of people"`
	Conflicts   int           `json:"conflicts" doc:"Files and tables that were changed here and at the host"`
	Warnings    []string      `json:"warnings,omitempty"`
	WentBack    bool          `json:"went_back,omitempty"`
	Why         string        `json:"why,omitempty" doc:"It went back"`
	Pages       int           `json:"pages,omitempty" doc:"Pages of the live site that were asked before and after"`
	PagesWorse  []PushedPage  `json:"pages_worse,omitempty" doc:"Those of them that answer worse"`
}

// PushedPage is a page of a live site that answers worse than before a push.
type PushedPage struct {
	Path string `json:"path"`
	Was  int    `json:"was" doc:"The status it had"`
	Why  string `json:"why"`
}

// PushedFile is a file that is pushed.
type PushedFile struct {
	Path     string `json:"path"`
	What     string `json:"what" enum:"new,changed,gone"`
	Bytes    int64  `json:"bytes"`
	Conflict bool   `json:"conflict,omitempty" doc:"It was changed at the host as well"`
}

// PushedTable is a table that is pushed.
type PushedTable struct {
	Name string `json:"name"`
	New  int    `json:"new" doc:"Rows that the host does not have so"`
	Gone int    `json:"gone" doc:"Rows that it has, and will not"`
	Lost int    `json:"lost,omitempty" doc:"Rows that were changed at the host since the last move, and would be lost: a conflict"`
}

// Pull makes what was fetched of an account a site, new or there already.
type Pull struct {
	Site   string `json:"site" doc:"Its name; a new one where there is none"`
	Domain string `json:"domain,omitempty"`
	Stay   bool   `json:"stay,omitempty" doc:"Stay with it although a check fails"`
	ByNeed bool   `json:"by_need,omitempty" doc:"Uploads that are missing here are fetched from the live site when somebody asks for them"`
	Only   string `json:"only,omitempty" enum:"files,database" doc:"What alone is put into a site that is there; empty for both"`
}
