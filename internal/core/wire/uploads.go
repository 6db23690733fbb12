package wire

// What an upload may turn out to be.
const (
	UploadArchive = "archive" // a release or a site of a PHP CMS
	UploadPart    = "part"    // a plugin or theme
	UploadParcel  = "parcel"  // a site in one file
	UploadStencil = "stencil"
	UploadDump    = "dump"
	UploadUnknown = "unknown"
)

// Upload is a file that was brought.
type Upload struct {
	ID        string `json:"id"`
	Name      string `json:"name"`
	Path      string `json:"path" doc:"Where it lies on the service's machine: for archive, sql and the like; a day at most"`
	SizeBytes int64  `json:"size_bytes"`
	Kind      string `json:"kind" enum:"archive,part,parcel,stencil,dump,unknown"`
	What      string `json:"what,omitempty" doc:"More of what it is, in words"`
	Suggested string `json:"suggested,omitempty" doc:"A name for it"`
}

// KeepUpload says where a file is to stay.
type KeepUpload struct {
	As   string `json:"as" enum:"shelf,stencil"`
	Name string `json:"name,omitempty" doc:"Of the stencil"`
}
