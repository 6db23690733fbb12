package wire

import "vessik/internal/core/site"

// NewSites asks for sites.
type NewSites struct {
	Sites []Request `json:"sites" minItems:"1" maxItems:"200"`
}

// Requests are what core judges.
func (n NewSites) Requests() []site.Request {
	requests := make([]site.Request, len(n.Sites))
	for i, r := range n.Sites {
		requests[i] = site.Request(r)
	}
	return requests
}

// Request is what somebody asks for. Only the name is needed; everything else is derived where it is empty.
type Request struct {
	Name             string   `json:"name" doc:"Host label: a to z, 0 to 9 and hyphens inside, 63 characters at most" example:"orchard-days"`
	Title            string   `json:"title,omitempty" doc:"The site's title" example:"Orchard Days"`
	Folder           string   `json:"folder,omitempty" doc:"Absolute path; must be empty or not exist"`
	Domain           string   `json:"domain,omitempty" doc:"Host name that the gateway answers for" example:"orchard-days.localhost"`
	Port             int      `json:"port,omitempty" doc:"The site's own port on 127.0.0.1"`
	CMS              string   `json:"cms,omitempty" doc:"The CMS" example:"wordpress"`
	CMSVersion       string   `json:"cms_version,omitempty" doc:"The CMS version" example:"6.8"`
	PHP              string   `json:"php,omitempty" doc:"PHP engine" example:"php-8.4"`
	Web              string   `json:"web,omitempty" doc:"Web server engine" example:"nginx-1.26"`
	Database         string   `json:"database,omitempty" doc:"Database engine" example:"mariadb-11.8"`
	DatabaseName     string   `json:"database_name,omitempty" doc:"The site's database"`
	DatabaseUser     string   `json:"database_user,omitempty" doc:"The user that may use that database, and no other"`
	DatabasePassword string   `json:"database_password,omitempty" doc:"12 characters or more; generated when empty"`
	Archive          string   `json:"archive,omitempty" doc:"Release, backup or parcel of a PHP CMS: .zip or .tar; an absolute path"`
	Parcel           string   `json:"parcel,omitempty" doc:"Site in one file, as a parcel is made, an absolute path"`
	Adopt            string   `json:"adopt,omitempty" doc:"Existing folder, an absolute path, that is used where it stands"`
	Stencil          string   `json:"stencil,omitempty" doc:"Saved site that it is drawn from"`
	CopyOf           string   `json:"copy_of,omitempty" doc:"Site that it is a copy of"`
	SQL              string   `json:"sql,omitempty" doc:"Dump to load, plain or compressed, an absolute path; alone into a new CMS"`
	SQLAddress       string   `json:"sql_address,omitempty" doc:"Base address in it; found where empty" example:"https://orchard.example"`
	Dump             string   `json:"dump,omitempty" doc:"Which dump in the archive, where it holds several databases"`
	Touches          []string `json:"finishing_touches,omitempty" doc:"Finishing touches, NAME or NAME=VALUE"`
	Language         string   `json:"language,omitempty" doc:"One of the CMS's languages, or in short where only one fits" example:"de_DE"`
	TimeZone         string   `json:"time_zone,omitempty" doc:"Name of the IANA database" example:"Europe/Lisbon"`
	Domains          []string `json:"domains,omitempty" doc:"Further host names that the site answers for"`
	ForceDomain      bool     `json:"force_domain,omitempty" doc:"Also an ending that is public"`
	ForceWeak        bool     `json:"force_weak,omitempty" doc:"Also names and passwords that are easily guessed"`
	Network          string   `json:"network,omitempty" enum:"folders,domains" doc:"Several sites in one: by sub-folder or sub-domain"`
	SubSites         []string `json:"sub_sites,omitempty" doc:"Those of a network that are made at once" example:"north"`
	Plugins          []string `json:"plugins,omitempty" doc:"Plugins of the shelf, active from the start"`
	Themes           []string `json:"themes,omitempty" doc:"Themes of the shelf; the first is the active one"`
	Outgoing         string   `json:"outgoing,omitempty" enum:"web,open,closed" doc:"What the site may ask of other machines"`
	Group            string   `json:"group,omitempty" doc:"Label under which the fleet shows the site" example:"Gardens"`
	SearchEngines    bool     `json:"search_engines,omitempty" doc:"Search engines may list the site"`
	HTTPS            string   `json:"https,omitempty" enum:"on,off" doc:"The site answers over https alone"`
	Prefix           string   `json:"prefix,omitempty" doc:"Begins the names of the CMS's tables; generated when empty" example:"k3xw_"`

	Administrator site.Administrator `json:"administrator,omitzero" doc:"Of the CMS"`
}
