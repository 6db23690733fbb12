package wire

import (
	"time"

	"vessik/internal/core/walk"
)

// Walk asks for a walk through all pages of a site.
type Walk struct {
	Pages   int    `json:"pages,omitempty" minimum:"0" maximum:"5000" doc:"The most that are walked; 500 where it is 0"`
	Slow    int64  `json:"slow,omitempty" minimum:"0" doc:"Milliseconds that a page may take; 2000 where it is 0"`
	As      string `json:"as,omitempty" doc:"A user who is signed in meanwhile"`
	Browser *int   `json:"browser,omitempty" doc:"The most that a browser looks at; 50 where it is not said and there is one"`
	Against string `json:"against,omitempty" example:"last" doc:"What it is compared with: last, an earlier walk's id, a site or an address"`
}

// WalkLine is a line of what a walk tells: how far it is, a page at its end, what was compared, the end, or what went wrong.
type WalkLine struct {
	Progress *WalkProgress    `json:"progress,omitempty"`
	Page     *walk.WalkedPage `json:"page,omitempty"`
	Compared *walk.Compared   `json:"compared,omitempty"`
	End      *WalkEnd         `json:"end,omitempty"`
	Error    string           `json:"error,omitempty"`
}

// WalkProgress is how far a walk is.
type WalkProgress struct {
	Doing string `json:"doing" enum:"asking,slow pages,looking,other site,other address" doc:"What is being done"`
	Asked int    `json:"asked" doc:"Pages and files"`
	Known int    `json:"known" doc:"That are to be asked, as far as is known"`
}

// WalkEnd is the end of a walk.
type WalkEnd struct {
	ID           string    `json:"id" doc:"By which it is found again"`
	At           time.Time `json:"at"`
	URL          string    `json:"url"`
	As           string    `json:"as,omitempty" doc:"The user who was signed in"`
	Pages        int       `json:"pages"`
	Files        int       `json:"files"`
	Looked       int       `json:"looked" doc:"Pages that a browser looked at"`
	Findings     int       `json:"findings"`
	Cut          bool      `json:"cut,omitempty" doc:"There is more than was walked"`
	Milliseconds int64     `json:"milliseconds"`
}

// WalkEndOf is how a walk ended.
func WalkEndOf(w walk.Walked) WalkEnd {
	return WalkEnd{ID: w.ID, At: w.At, URL: w.URL, As: w.As, Pages: len(w.Pages), Files: w.Files, Looked: w.Looked, Findings: w.Findings(),
		Cut: w.Cut, Milliseconds: w.Milliseconds}
}
