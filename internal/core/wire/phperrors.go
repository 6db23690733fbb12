package wire

import "time"

// PHPError is what PHP complained of at one place of a site, however often.
type PHPError struct {
	Kind    string       `json:"kind" enum:"error,warning,notice,deprecated"`
	Text    string       `json:"text" doc:"The last one's"`
	File    string       `json:"file" doc:"Below the site's folder, where it is there"`
	Line    int          `json:"line"`
	Count   int64        `json:"count"`
	Request string       `json:"request,omitempty" doc:"The last that is known to have caused it" example:"GET /shop/"`
	FirstAt time.Time    `json:"first_at"`
	LastAt  time.Time    `json:"last_at"`
	Source  []SourceLine `json:"source,omitempty" doc:"The lines around it, as they are now"`
}

// SourceLine is one line of a file.
type SourceLine struct {
	Line int    `json:"line"`
	Text string `json:"text"`
}
