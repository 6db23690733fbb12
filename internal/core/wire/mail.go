package wire

import (
	"time"

	"vessik/internal/core/message"
)

// Mail is a caught message as it is listed.
type Mail struct {
	ID      int64     `json:"id"`
	Site    string    `json:"site"`
	From    string    `json:"from"`
	To      []string  `json:"to" nullable:"false"`
	Subject string    `json:"subject"`
	At      time.Time `json:"at" doc:"When it was caught"`
	Bytes   int64     `json:"bytes"`
	Way     string    `json:"way" enum:"sendmail,smtp" doc:"By which it was sent"`
}

// MailPage is one message, read.
type MailPage struct {
	Mail
	Message message.Content `json:"message"`
	Page    string          `json:"page" doc:"Its HTML with the images that it brings in it"`
}

// Dropped tells how many there were.
type Dropped struct {
	Count int `json:"count"`
}

// MailAccess is how a mail program opens a site's mailbox.
type MailAccess struct {
	Host     string `json:"host" doc:"By IMAP, without TLS: it does not leave this machine"`
	Port     int    `json:"port"`
	User     string `json:"user"`
	Password string `json:"password"`
}

// MailServer is the user's own, by which single messages are handed on.
type MailServer struct {
	Server string `json:"server" doc:"smtps://HOST[:PORT], or smtp://HOST[:PORT] where TLS begins later"`
	User   string `json:"user,omitempty"`
	From   string `json:"from" doc:"The address that it sends for"`
}

// SetMailServer names the user's own, and how it lets the user in.
type SetMailServer struct {
	MailServer
	Password string `json:"password,omitempty" doc:"It is never told again"`
}

// HandOn asks for one message to be handed on.
type HandOn struct {
	To      string `json:"to" doc:"One real address"`
	Preview bool   `json:"preview,omitempty" doc:"Only tell what would be sent"`
}

// HandedOn is what is sent on, or would be.
type HandedOn struct {
	ID      int64  `json:"id"`
	Site    string `json:"site"`
	Subject string `json:"subject"`
	Bytes   int64  `json:"bytes"`
	From    string `json:"from" doc:"The address that the server sends for"`
	To      string `json:"to"`
	Server  string `json:"server"`
	Sent    bool   `json:"sent"`
}
