package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"vessik/internal/core/wire"
)

// Mail is a message that a site sent, and that was caught; MailPage is one that is read. MailAccess lets a mail program in; MailServer is
// the user's own, by which a message is handed on.
type (
	Mail       = wire.Mail
	MailPage   = wire.MailPage
	MailAccess = wire.MailAccess
	MailServer = wire.MailServer
	HandedOn   = wire.HandedOn
)

// MailAsked says which messages: of a site or of all, with a text in them or with any, newer than one; wait is for how long the first is
// waited for.
type MailAsked struct {
	Site, Search string
	After        int64
	Wait         time.Duration
}

// Mails lists what was caught, the newest first.
func (c *Client) Mails(ctx context.Context, asked MailAsked) (m []Mail, err error) {
	query := url.Values{"site": {asked.Site}, "search": {asked.Search}, "after": {strconv.FormatInt(asked.After, 10)},
		"wait": {strconv.Itoa(int(asked.Wait.Seconds()))}}
	return m, c.call(ctx, "GET", "/mail?"+query.Encode(), nil, &m)
}

// Mail reads one message.
func (c *Client) Mail(ctx context.Context, id int64) (m MailPage, err error) {
	return m, c.call(ctx, "GET", fmt.Sprintf("/mail/%d", id), nil, &m)
}

// DropMail removes one message.
func (c *Client) DropMail(ctx context.Context, id int64) error {
	return c.call(ctx, "DELETE", fmt.Sprintf("/mail/%d", id), nil, nil)
}

// DropMails removes all messages of a site, and tells how many there were.
func (c *Client) DropMails(ctx context.Context, site string) (count int, err error) {
	var dropped wire.Dropped
	err = c.call(ctx, "DELETE", "/sites/"+url.PathEscape(site)+"/mail", nil, &dropped)
	return dropped.Count, err
}

// MailSource writes a message as it was sent, or where number is not 0 its attachment of that number.
func (c *Client) MailSource(ctx context.Context, id int64, number int, out io.Writer) error {
	path := fmt.Sprintf("/mail/%d/source", id)
	if number != 0 {
		path = fmt.Sprintf("/mail/%d/attachments/%d", id, number)
	}
	response, err := c.send(ctx, http.MethodGet, path, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.Copy(out, response.Body)
	return err
}

// MailAccess is how a mail program opens a site's mailbox.
func (c *Client) MailAccess(ctx context.Context, site string) (m MailAccess, err error) {
	return m, c.call(ctx, "POST", "/sites/"+url.PathEscape(site)+"/mail-access", nil, &m)
}

// HandOn sends one message on to a real address by the user's own mail server, or tells what would be sent.
func (c *Client) HandOn(ctx context.Context, id int64, to string, preview bool) (h HandedOn, err error) {
	return h, c.call(ctx, "POST", fmt.Sprintf("/mail/%d/hand-on", id), wire.HandOn{To: to, Preview: preview}, &h)
}

// MailServer is the user's own mail server, without its password.
func (c *Client) MailServer(ctx context.Context) (s MailServer, err error) {
	return s, c.call(ctx, "GET", "/mail-server", nil, &s)
}

// SetMailServer sets it, once it has let the user in.
func (c *Client) SetMailServer(ctx context.Context, s MailServer, password string) error {
	return c.call(ctx, "PUT", "/mail-server", wire.SetMailServer{MailServer: s, Password: password}, nil)
}

// DropMailServer forgets it.
func (c *Client) DropMailServer(ctx context.Context) error {
	return c.call(ctx, "DELETE", "/mail-server", nil, nil)
}
