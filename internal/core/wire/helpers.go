package wire

// Helper is a local helper: PHP outside a site's folder that is loaded for it on this machine.
type Helper struct {
	Name    string `json:"name"`
	About   string `json:"about,omitempty"`
	Path    string `json:"path,omitempty" doc:"Of one of the user's own"`
	On      bool   `json:"on" doc:"It is loaded for the site"`
	Missing bool   `json:"missing,omitempty" doc:"It is nowhere any more, and left out"`
}
