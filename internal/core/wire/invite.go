package wire

import (
	"fmt"
	"strings"
	"time"
	"unicode"
)

// Relay is a server that lends guest addresses to this home's sites.
type Relay struct {
	Host        string    `json:"host" example:"guests.example"`
	URL         string    `json:"url" example:"https://guests.example"`
	Fingerprint string    `json:"fingerprint,omitempty" doc:"SHA-256 of the certificate that was pinned, where no authority vouches for it"`
	JoinedAt    time.Time `json:"joined_at"`
	Stands      bool      `json:"stands" doc:"The line to it stands now"`
	Why         string    `json:"why,omitempty" doc:"It does not"`
}

// JoinRelay says at which relay this home has an account.
type JoinRelay struct {
	URL   string `json:"url" doc:"Its address" example:"https://guests.example"`
	Token string `json:"token" doc:"Of the account there; it is sealed, and never told again"`
	// Fingerprint is what the relay's certificate must have, where no authority vouches for it.
	Fingerprint string `json:"fingerprint,omitempty" doc:"SHA-256 of the certificate that the relay is to show, in hexadecimal"`
}

// Terms are what guests may.
type Terms struct {
	Password string `json:"password,omitempty" doc:"That guests say; one is made up where nothing is said"`
	Open     bool   `json:"open,omitempty" doc:"No password is asked for"`
	Only     string `json:"only,omitempty" doc:"The path, or the address with its query, that may be seen alone" example:"/shop/"`
	ReadOnly bool   `json:"read_only,omitempty" doc:"Nothing that changes something"`
	NoSignIn bool   `json:"no_sign_in,omitempty" doc:"Pages where people sign in are shut"`
	Remarks  bool   `json:"remarks,omitempty" doc:"Guests may leave remarks on pages"`
}

// Wrong says what is wrong with terms: a field, why, and what to do; nothing where they are good.
func (t Terms) Wrong() (field, message, remedy string) {
	const shortest = 6 // characters of a password
	switch {
	case t.Open && t.Password != "":
		return "open", "goes without a password", "say one of them"
	case t.Password != "" && len(t.Password) < shortest:
		return "password", fmt.Sprintf("is shorter than %d characters", shortest), "say a longer one, or leave it out: one is made up"
	case t.Only != "" && (!strings.HasPrefix(t.Only, "/") || strings.HasPrefix(t.Only, "//") || strings.Contains(t.Only, "..") ||
		strings.Contains(t.Only, "\\") || strings.ContainsFunc(t.Only, unicode.IsControl)):
		return "only", fmt.Sprintf("%q is no address on the site", t.Only), "begin with a slash, such as /shop/"
	}
	return "", "", ""
}

// Invite says how a site is shown to guests.
type Invite struct {
	Seconds int `json:"seconds,omitempty" doc:"How long; 3 hours where nothing is said" minimum:"0" maximum:"2592000"`
	Terms
	Note  string `json:"note,omitempty" maxLength:"200"`
	Relay string `json:"relay,omitempty" doc:"Its host, where there are several"`
	Label string `json:"label,omitempty" doc:"First label of the address; one that cannot be guessed where nothing is said"`
	LAN   string `json:"lan,omitempty" doc:"An address or interface of this machine: in the local network, without a relay"`
}

// Invitation lends a site an address for guests.
type Invitation struct {
	ID       string    `json:"id"`
	Site     string    `json:"site"`
	Address  string    `json:"address" doc:"That guests open" example:"https://k3v9x2mq.guests.example/"`
	Relay    string    `json:"relay,omitempty" doc:"The relay that lends it"`
	Until    time.Time `json:"until"`
	MadeAt   time.Time `json:"made_at"`
	Who      string    `json:"who"`
	Asks     bool      `json:"asks" doc:"Guests must say a password"`
	Only     string    `json:"only,omitempty"`
	ReadOnly bool      `json:"read_only,omitempty"`
	NoSignIn bool      `json:"no_sign_in,omitempty"`
	Remarks  bool      `json:"remarks,omitempty"`
	Note     string    `json:"note,omitempty"`
	Guests   int       `json:"guests" doc:"Whom it let in, by their addresses"`
	Requests int       `json:"requests"`
	Refused  int       `json:"refused" doc:"Requests that were not let through"`
	Reached  bool      `json:"reached" doc:"Guests can open it now: the line to the relay stands"`
	Password string    `json:"password,omitempty" doc:"Told when it is made, and where one invitation is asked for"`
	// Others are the addresses of the site's other domains.
	Others map[string]string `json:"others,omitempty" doc:"Those of the other domains, and of sub-sites with one, by the domain here"`
	// Fingerprint is that of the certificate in the local network.
	Fingerprint string `json:"fingerprint,omitempty" doc:"SHA-256 of the certificate, of one in the local network"`
}

// Guested is what was asked by an invitation.
type Guested struct {
	At      time.Time `json:"at"`
	Guest   string    `json:"guest" doc:"The address that asked"`
	Method  string    `json:"method"`
	Address string    `json:"address" doc:"Path and query"`
	Status  int       `json:"status"`
	Refused string    `json:"refused,omitempty" doc:"Why it was not let through"`
}
