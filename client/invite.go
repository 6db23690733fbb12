package client

import (
	"context"
	"fmt"
	"net/url"

	"vessik/internal/core/wire"
)

// What the API says of relays and invitations.
type (
	Relay      = wire.Relay
	JoinRelay  = wire.JoinRelay
	Invite     = wire.Invite
	Terms      = wire.Terms
	Invitation = wire.Invitation
	Guested    = wire.Guested
)

// Relays are those that the home has an account at.
func (c *Client) Relays(ctx context.Context) (all []Relay, err error) {
	return all, c.call(ctx, "GET", "/relays", nil, &all)
}

// JoinRelay has the home use a relay; it fails where the line does not stand.
func (c *Client) JoinRelay(ctx context.Context, asked JoinRelay) (r Relay, err error) {
	return r, c.call(ctx, "POST", "/relays", asked, &r)
}

// LeaveRelay has the home use a relay no more.
func (c *Client) LeaveRelay(ctx context.Context, host string) error {
	return c.call(ctx, "DELETE", "/relays/"+url.PathEscape(host), nil, nil)
}

// Invite lends a running site an address for guests; the answer has the password.
func (c *Client) Invite(ctx context.Context, name string, asked Invite) (i Invitation, err error) {
	return i, c.call(ctx, "POST", sitePath(name, "/invitations"), asked, &i)
}

// Invitations are those that stand, of one site where it is named.
func (c *Client) Invitations(ctx context.Context, name string) (all []Invitation, err error) {
	return all, c.call(ctx, "GET", "/invitations?site="+url.QueryEscape(name), nil, &all)
}

// Invitation is one, with its password.
func (c *Client) Invitation(ctx context.Context, id string) (i Invitation, err error) {
	return i, c.call(ctx, "GET", "/invitations/"+url.PathEscape(id), nil, &i)
}

// EndInvitation ends one.
func (c *Client) EndInvitation(ctx context.Context, id string) error {
	return c.call(ctx, "DELETE", "/invitations/"+url.PathEscape(id), nil, nil)
}

// Guested is what guests asked of a site, the last first.
func (c *Client) Guested(ctx context.Context, name string, most int) (all []Guested, err error) {
	return all, c.call(ctx, "GET", sitePath(name, fmt.Sprintf("/guests?most=%d", most)), nil, &all)
}
