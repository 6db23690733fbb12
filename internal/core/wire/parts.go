package wire

// Part is a plugin or theme of a site.
type Part struct {
	Kind    string `json:"kind" enum:"plugin,theme"`
	Name    string `json:"name" doc:"Of its folder, or of its file without the ending"`
	Title   string `json:"title"`
	Version string `json:"version"`
	On      bool   `json:"on"`
	Folder  string `json:"folder,omitempty" doc:"Outside of the site's folder, that stands there"`
}

// ChangeParts changes the plugins and themes of a site, all by name.
type ChangeParts struct {
	Add  []string `json:"add,omitempty" doc:"Of the shelf, NAME or NAME@VERSION; a new plugin is switched on"`
	On   []string `json:"on,omitempty" doc:"Switched on; of themes, the one that the site uses from then on"`
	Off  []string `json:"off,omitempty" doc:"Switched off"`
	Drop []string `json:"drop,omitempty" doc:"Switched off, and removed from the site's folder; what they keep in the database stays"`
	Stay bool     `json:"stay,omitempty" doc:"Stay with it although a check fails"`
}
