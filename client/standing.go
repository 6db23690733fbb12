package client

import (
	"context"
	"fmt"
	"net/url"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// What the API says of standing copies.
type (
	Stand        = wire.Stand
	Standing     = wire.Standing
	StandingCopy = wire.StandingCopy
	StoodUp      = wire.StoodUp
)

// Stand sends a copy of a site to a relay; the operation goes on after it returns, and its details are a StoodUp.
func (c *Client) Stand(ctx context.Context, name string, asked Stand) (o Operation, err error) {
	return o, c.call(ctx, "POST", sitePath(name, "/standing"), asked, &o)
}

// Standing are the copies that stand at relays, of one site where it is named; with their passwords if asked for.
func (c *Client) Standing(ctx context.Context, name string, secrets bool) (s Standing, err error) {
	return s, c.call(ctx, "GET", fmt.Sprintf("/standing?site=%s&secrets=%t", url.QueryEscape(name), secrets), nil, &s)
}

// BringHome fetches the mail that copies caught.
func (c *Client) BringHome(ctx context.Context) error {
	return c.call(ctx, "POST", "/standing/home", nil, nil)
}

func copyPath(name, more, relay string) string {
	return "/standing/" + url.PathEscape(site.ASCII(name)) + more + "?relay=" + url.QueryEscape(relay)
}

// EndStanding ends a copy, by its site or by its key; what guests left at it comes home first.
func (c *Client) EndStanding(ctx context.Context, name, relay string) error {
	return c.call(ctx, "DELETE", copyPath(name, "", relay), nil, nil)
}

// CopyRemarks are those on a copy, the oldest first.
func (c *Client) CopyRemarks(ctx context.Context, name, relay string) (all []Remark, err error) {
	return all, c.call(ctx, "GET", copyPath(name, "/remarks", relay), nil, &all)
}

// AnswerCopyRemark answers a remark on a copy, or says where it stands.
func (c *Client) AnswerCopyRemark(ctx context.Context, name, relay string, id int64, asked ReplyTo) (r Remark, err error) {
	return r, c.call(ctx, "POST", copyPath(name, fmt.Sprintf("/remarks/%d", id), relay), asked, &r)
}
