package wire

import "time"

// Outgoing is what a site asked of one port of another machine.
type Outgoing struct {
	Host         string    `json:"host" doc:"The name that was looked up for it; empty for none"`
	Address      string    `json:"address" doc:"Empty for a name that may not be looked up, or is not there"`
	Port         int       `json:"port"`
	Count        int64     `json:"count" doc:"How often it was asked"`
	Refused      int64     `json:"refused" doc:"How often that was refused, as the site's policy has it"`
	Failed       int64     `json:"failed" doc:"How often nobody answered"`
	Caught       int64     `json:"caught" doc:"How often it was led to the mailbox"`
	Milliseconds int64     `json:"milliseconds" doc:"How long it took on average until a connection stood"`
	FirstAt      time.Time `json:"first_at"`
	LastAt       time.Time `json:"last_at"`
}

// OutgoingPath names a page of a site.
type OutgoingPath struct {
	Path string `json:"path" example:"/wp-admin/"`
}

// OutgoingPage is what a site asked of other machines while it answered for one page.
type OutgoingPage struct {
	Path         string     `json:"path"`
	Status       int        `json:"status"`
	Milliseconds int64      `json:"milliseconds" doc:"How long the page took"`
	Asked        []Outgoing `json:"asked" nullable:"false"`
}
