package wire

import "time"

// States of a standing copy.
const (
	CopyMaking = "making" // it is put up, or brought up to date
	CopyStands = "stands"
	CopyFailed = "failed" // what was sent last could not be put up; what stood before, if anything, still answers
	CopyOver   = "over"   // its time is over, or it grew too large; what guests left is kept for a week
)

// Stand asks for a standing copy of a site at a relay, or for one that stands to be brought up to date.
type Stand struct {
	Relay   string `json:"relay,omitempty" doc:"Its host, where there are several"`
	Seconds int    `json:"seconds,omitempty" doc:"How long it stands; 30 days where nothing is said" minimum:"0" maximum:"31536000"`
	Terms
	Label   string   `json:"label,omitempty" doc:"First label of the address; one that cannot be guessed where nothing is said"`
	Without []string `json:"without,omitempty" doc:"uploads, caches, or paths in the site's folder"`
}

// StandingCopy is a copy of a site at a relay, which stays up when this machine is off.
type StandingCopy struct {
	Key       string    `json:"key" doc:"By which both sides know it"`
	Site      string    `json:"site" doc:"That it is a copy of, as that was called when it was sent"`
	Relay     string    `json:"relay,omitempty"`
	State     string    `json:"state" enum:"making,stands,failed,over"`
	Why       string    `json:"why,omitempty" doc:"It failed, or is over before its time"`
	Address   string    `json:"address,omitempty" doc:"That guests open"`
	MadeAt    time.Time `json:"made_at"`
	UpdatedAt time.Time `json:"updated_at,omitzero" doc:"When what stands was sent"`
	Until     time.Time `json:"until"`
	Bytes     int64     `json:"bytes" doc:"Of files and database"`
	Asks      bool      `json:"asks" doc:"Guests must say a password"`
	Password  string    `json:"password,omitempty"`
	Only      string    `json:"only,omitempty"`
	ReadOnly  bool      `json:"read_only,omitempty"`
	NoSignIn  bool      `json:"no_sign_in,omitempty"`
	Remarks   bool      `json:"remarks,omitempty" doc:"Guests may leave remarks on pages"`
	Remarked  int       `json:"remarked,omitempty" doc:"Remarks that are not done"`
	Mails     int       `json:"mails,omitempty" doc:"Caught there, and not brought home yet"`
	Requests  int       `json:"requests,omitempty" doc:"Of guests, since it was put up or its relay started"`
}

// Standing are the copies at all relays.
type Standing struct {
	Copies []StandingCopy `json:"copies" nullable:"false"`
	// Unreached are relays that did not tell what stands there.
	Unreached map[string]string `json:"unreached,omitempty" doc:"Why, by the relay's host"`
}

// StandNow is what a relay is told: content that it has in pieces is to be put up.
type StandNow struct {
	Stand
	Site   string   `json:"site"`
	Pieces []string `json:"pieces"` // SHA-256 of each, in order; one after the other they are a parcel
	Bytes  int64    `json:"bytes"`
}

// StoodUp is what came of sending a copy.
type StoodUp struct {
	Copy    *StandingCopy `json:"copy,omitempty"`
	Carried int64         `json:"carried" doc:"Bytes that had to be sent, compressed"`
}
