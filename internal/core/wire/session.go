package wire

import "time"

// Session is a browser that is signed in to the console.
type Session struct {
	ID        string    `json:"id"`
	Browser   string    `json:"browser" doc:"What it says it is"`
	StartedAt time.Time `json:"started_at"`
	UsedAt    time.Time `json:"used_at" doc:"To the minute"`
	Own       bool      `json:"own,omitempty" doc:"It is the one that asks"`
}

// SignIn is the ticket of a link, SignedIn what the console's page gets for it and keeps for its own origin.
type SignIn struct {
	Ticket string `json:"ticket"`
}

type SignedIn struct {
	Secret string `json:"secret"`
}

// Ended says how many sessions were ended.
type Ended struct {
	Count int `json:"count"`
}

// Download names a file of the API that a browser shall fetch by itself.
type Download struct {
	Path string `json:"path" pattern:"^/api/v1/(stencils/[^/?]+/file|mail/[0-9]+/[^?]+|sites/[^?]+/parcel([?].*)?)$"`
}

// Link is a one-time address that signs a browser in to the console.
type Link struct {
	URL       string    `json:"url"`
	ExpiresAt time.Time `json:"expires_at"`
}
