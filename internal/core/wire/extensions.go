package wire

// Extension is one that Debian has for a PHP besides those that the engine brings.
type Extension struct {
	Name    string `json:"name"`
	Package string `json:"package" doc:"Debian's"`
	About   string `json:"about"`
	Present bool   `json:"present" doc:"It has been fetched; sites switch it on in their settings"`
}

// FetchExtensions names extensions.
type FetchExtensions struct {
	Names []string `json:"names" minItems:"1"`
}
