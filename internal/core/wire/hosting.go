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
	SignIn   string    `json:"sign_in" enum:"password,key,agent,none"`
	MadeAt   time.Time `json:"made_at"`
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
	Without []string `json:"without,omitempty" doc:"uploads, or paths at the host; what was fetched of them before stays"`
	DryRun  bool     `json:"dry_run,omitempty" doc:"Look, and carry nothing"`
	Mask    bool     `json:"mask,omitempty" doc:"People cannot be recognised in what is fetched"`
	Empty   []string `json:"empty,omitempty" doc:"Tables whose rows stay at the host"`
}

// Fetched is what was found at a host, and what was carried.
type Fetched struct {
	At         time.Time  `json:"at,omitzero"`
	CMS        site.CMS   `json:"cms,omitzero"`
	Title      string     `json:"title,omitempty"`
	Stack      site.Stack `json:"stack,omitzero" doc:"The nearest to the host's"`
	PHP        string     `json:"php,omitempty" doc:"Version at the host"`
	Database   string     `json:"database,omitempty" doc:"Version at the host"`
	Files      int        `json:"files"`
	FileBytes  int64      `json:"file_bytes"`
	New        int        `json:"new" doc:"Files that are not here"`
	Changed    int        `json:"changed"`
	Gone       int        `json:"gone" doc:"Files that are no longer at the host"`
	CarryBytes int64      `json:"carry_bytes" doc:"What new and changed files take"`
	Carried    int64      `json:"carried" doc:"Bytes of files that were carried"`
	DumpBytes  int64      `json:"dump_bytes,omitempty"`
	DumpParts  int        `json:"dump_parts,omitempty" doc:"Requests in which the database was read; more than one is more than one moment"`
	Warnings   []string   `json:"warnings,omitempty"`
}

// Pull makes what was fetched of an account a site, new or there already.
type Pull struct {
	Site   string `json:"site" doc:"Its name; a new one where there is none"`
	Domain string `json:"domain,omitempty"`
	Stay   bool   `json:"stay,omitempty" doc:"Stay with it although a check fails"`
	Only   string `json:"only,omitempty" enum:"files,database" doc:"What alone is put into a site that is there; empty for both"`
}
