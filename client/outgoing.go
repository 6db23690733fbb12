package client

import (
	"context"
	"net/url"

	"vessik/internal/core/wire"
)

// Outgoing is what a site asked of one port of another machine; OutgoingPage what it asked for one page.
type (
	Outgoing     = wire.Outgoing
	OutgoingPage = wire.OutgoingPage
)

// Outgoing is what a site asked of other machines, the last first.
func (c *Client) Outgoing(ctx context.Context, site string) (o []Outgoing, err error) {
	return o, c.call(ctx, "GET", "/sites/"+url.PathEscape(site)+"/outgoing", nil, &o)
}

// ForgetOutgoing empties a site's ledger.
func (c *Client) ForgetOutgoing(ctx context.Context, site string) error {
	return c.call(ctx, "DELETE", "/sites/"+url.PathEscape(site)+"/outgoing", nil, nil)
}

// OutgoingPage loads one page of a site, and tells what the site asked of other machines for it.
func (c *Client) OutgoingPage(ctx context.Context, site, path string) (o OutgoingPage, err error) {
	return o, c.call(ctx, "POST", "/sites/"+url.PathEscape(site)+"/outgoing/page", wire.OutgoingPath{Path: path}, &o)
}
