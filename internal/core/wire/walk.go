package wire

import "vessik/internal/core/walk"

// Walk asks for a walk through all pages of a site.
type Walk struct {
	Pages int    `json:"pages,omitempty" minimum:"0" maximum:"5000" doc:"The most that are walked; 500 where it is 0"`
	Slow  int64  `json:"slow,omitempty" minimum:"0" doc:"Milliseconds that a page may take; 2000 where it is 0"`
	As    string `json:"as,omitempty" doc:"A user who is signed in meanwhile"`
}

// WalkLine is a line of what a walk tells: how far it is, a page at its end, the end, or what went wrong.
type WalkLine struct {
	Progress *WalkProgress    `json:"progress,omitempty"`
	Page     *walk.WalkedPage `json:"page,omitempty"`
	End      *WalkEnd         `json:"end,omitempty"`
	Error    string           `json:"error,omitempty"`
}

// WalkProgress is how far a walk is.
type WalkProgress struct {
	Asked int `json:"asked" doc:"Pages and files"`
	Known int `json:"known" doc:"That are to be asked, as far as is known"`
}

// WalkEnd is the end of a walk.
type WalkEnd struct {
	Pages        int   `json:"pages"`
	Files        int   `json:"files"`
	Findings     int   `json:"findings"`
	Cut          bool  `json:"cut,omitempty" doc:"There is more than was walked"`
	Milliseconds int64 `json:"milliseconds"`
}
