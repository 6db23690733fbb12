package wire

import "time"

// RestorePoint is a site's files and database at one moment.
type RestorePoint struct {
	ID    string    `json:"id"`
	At    time.Time `json:"at"`
	Note  string    `json:"note" doc:"What it was taken for"`
	Who   string    `json:"who"`
	Kept  bool      `json:"kept" doc:"Somebody asked for it: it stays until it is dropped"`
	Bytes int64     `json:"bytes" doc:"That its blobs take, which it shares with the site's other points"`
}

// VerifiedPoints is what reading all that points are made of has shown.
type VerifiedPoints struct {
	Points  int            `json:"points"`
	Blobs   int            `json:"blobs" doc:"That were read"`
	Damaged []DamagedPoint `json:"damaged" nullable:"false"`
}

// DamagedPoint is a restore point of which something is not what it was.
type DamagedPoint struct {
	ID    string   `json:"id"`
	Files []string `json:"files" nullable:"false" doc:"database.sql is the database; none means all of it"`
}

// MakePoint asks for a restore point.
type MakePoint struct {
	Note string `json:"note,omitempty" maxLength:"200" doc:"What it is for"`
}

// RestoreRules say when a site's points are taken by themselves, and how much all may take.
type RestoreRules struct {
	Every int64 `json:"every" doc:"Seconds between points that are taken by themselves, where anything has changed; 0 is never"`
	Most  int64 `json:"most" doc:"Bytes that all points may take; the oldest that nobody asked for go first"`
}

// SetRestoreRules asks for other rules; what is left out stays as it is.
type SetRestoreRules struct {
	Every *int64 `json:"every,omitempty" doc:"Seconds; 0 is never"`
	Most  *int64 `json:"most,omitempty" doc:"Bytes; 0 is as usual"`
}

// GoBack leads a site back to a restore point.
type GoBack struct {
	Stay bool `json:"stay,omitempty" doc:"Stay there although a check fails"`
}

// RestorePreview is what going back would change.
type RestorePreview struct {
	NewFiles     []string `json:"new_files" nullable:"false" doc:"That are not there now, by their paths in the site's folder"`
	ChangedFiles []string `json:"changed_files" nullable:"false"`
	GoneFiles    []string `json:"gone_files" nullable:"false" doc:"That are there now only; a folder stands for all in it"`
	Tables       []string `json:"tables" nullable:"false" doc:"In words, what would differ in the database"`
}
