package client

import (
	"context"

	"vessik/internal/core/wire"
)

// What the API says of plugins and themes of sites.
type (
	Part        = wire.Part
	ChangeParts = wire.ChangeParts
)

// Parts lists the plugins and themes of a site.
func (c *Client) Parts(ctx context.Context, name string) (parts []Part, err error) {
	return parts, c.call(ctx, "GET", sitePath(name, "/parts"), nil, &parts)
}

// ChangeParts changes them; the operation goes on after it returns.
func (c *Client) ChangeParts(ctx context.Context, name string, asked ChangeParts) (o Operation, err error) {
	return o, c.call(ctx, "POST", sitePath(name, "/parts"), asked, &o)
}
