package wire

import "time"

// Where a remark stands.
const (
	RemarkOpen     = "open"
	RemarkAnswered = "answered"
	RemarkDone     = "done"
)

// Remark is what a guest left at a spot of a page.
type Remark struct {
	ID      int64     `json:"id"`
	Site    string    `json:"site"`
	Page    string    `json:"page" doc:"Path and query" example:"/shop/"`
	Element string    `json:"element,omitempty" doc:"CSS selector of what was pointed at; empty for the whole page"`
	Excerpt string    `json:"excerpt,omitempty" doc:"The beginning of its text"`
	X       float64   `json:"x" doc:"Where in it, as a share of its width"`
	Y       float64   `json:"y" doc:"And of its height"`
	Width   int       `json:"width" doc:"Of the guest's window, in CSS pixels"`
	Height  int       `json:"height"`
	Browser string    `json:"browser,omitempty"`
	Who     string    `json:"who" doc:"As the guest says to be called"`
	Text    string    `json:"text"`
	Drawn   bool      `json:"drawn,omitempty" doc:"There is a drawing on a picture of the page"`
	State   string    `json:"state" enum:"open,answered,done"`
	At      time.Time `json:"at"`
	Answers []Reply   `json:"answers" nullable:"false"`
}

// Reply is one answer to a remark.
type Reply struct {
	Who     string    `json:"who"`
	Text    string    `json:"text"`
	Builder bool      `json:"builder,omitempty" doc:"Of whoever builds the site, and not of a guest"`
	At      time.Time `json:"at"`
}

// ReplyTo answers a remark, or says where it stands.
type ReplyTo struct {
	Text  string `json:"text,omitempty" maxLength:"4000"`
	State string `json:"state,omitempty" enum:"open,answered,done" doc:"answered where only a text is said"`
}
