package wire

import (
	"time"

	"vessik/internal/core/site"
)

// Parcel says what a parcel holds: a whole site in one file. It is the parcel.json in it, which docs/parcel.schema.json describes.
type Parcel struct {
	Format        string     `json:"format"`
	Site          string     `json:"site" doc:"That it was made of"`
	Title         string     `json:"title"`
	CMS           site.CMS   `json:"cms"`
	Root          string     `json:"root,omitempty" doc:"Document root inside files/"`
	Configuration string     `json:"configuration,omitempty" doc:"The CMS's configuration inside files/: without passwords and secrets"`
	Prefix        string     `json:"prefix" doc:"Begins the names of its tables"`
	Network       string     `json:"network,omitempty" doc:"Several sites in one: by folders or domains"`
	SubSites      []string   `json:"sub_sites,omitempty"`
	URL           string     `json:"url" doc:"Base address in its database, without a trailing slash"`
	Folder        string     `json:"folder,omitempty" doc:"Where its files stood; paths below it may be in its database"`
	Stack         site.Stack `json:"stack" doc:"What it ran on"`
	// Settings are what a site of it is given: php.ini settings and extensions, nothing that names what a machine has.
	Settings      site.Settings `json:"settings,omitzero"`
	MadeAt        time.Time     `json:"made_at"`
	Point         string        `json:"restore_point,omitempty" doc:"It holds the site as it was at that restore point"`
	Files         int           `json:"files"`
	FileBytes     int64         `json:"file_bytes"`
	Database      bool          `json:"database" doc:"It holds the database, as database.sql"`
	DatabaseBytes int64         `json:"database_bytes"`
	LeftOut       []string      `json:"left_out,omitempty" doc:"Paths inside files/ that were left out when it was made"`
	LinksLeftOut  int           `json:"links_left_out,omitempty" doc:"Symbolic links are not taken along"`
}

// MakeParcel says what a parcel is to hold.
type MakeParcel struct {
	Zip        bool     `json:"zip,omitempty" doc:"A zip archive, and no tar archive compressed with Zstandard"`
	Plain      bool     `json:"-"` // a tar archive that is not compressed
	Without    []string `json:"without,omitempty" doc:"uploads, caches, or paths in the site's folder"`
	NoDatabase bool     `json:"no_database,omitempty"`
	For        string   `json:"for,omitempty" doc:"Address that the site is to have where it goes" example:"https://orchard.example"`
}

// AskLander asks for a lander of a parcel.
type AskLander struct {
	Zip string `json:"zip" doc:"Name of the parcel's file" pattern:"^[A-Za-z0-9][A-Za-z0-9._-]*[.]zip$" maxLength:"200"`
}

// Lander is the PHP file that lands a parcel at a host that has no Vessik.
type Lander struct {
	Name   string `json:"name" doc:"Of its file"`
	Text   string `json:"text"`
	Secret string `json:"secret" doc:"The key without which it does nothing"`
}

// Unpack puts a parcel in the place of a site's files and database.
type Unpack struct {
	Parcel string `json:"parcel" doc:"A parcel, an absolute path"`
	Only   string `json:"only,omitempty" enum:"files,database" doc:"What alone is put into its place; empty for both"`
	Stay   bool   `json:"stay,omitempty" doc:"Stay with it although a check fails"`
}
