package wire

import "time"

// Authority is the home's own certificate authority.
type Authority struct {
	Name        string    `json:"name"`
	SHA256      string    `json:"sha256" doc:"Of its certificate, in hexadecimal"`
	Endings     []string  `json:"endings" nullable:"false" doc:"What it can sign for, by critical name constraints; nothing else"`
	NotAfter    time.Time `json:"not_after"`
	Certificate string    `json:"certificate" doc:"PEM (RFC 7468)"`
}
