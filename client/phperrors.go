package client

import (
	"context"

	"vessik/internal/core/wire"
)

// PHPError is what PHP complained of at one place of a site.
type PHPError = wire.PHPError

// PHPErrors is what PHP of a site complained of, by place, the last first.
func (c *Client) PHPErrors(ctx context.Context, site string) (e []PHPError, err error) {
	return e, c.call(ctx, "GET", sitePath(site, "/errors"), nil, &e)
}

// ForgetPHPErrors forgets what PHP of a site complained of.
func (c *Client) ForgetPHPErrors(ctx context.Context, site string) error {
	return c.call(ctx, "DELETE", sitePath(site, "/errors"), nil, nil)
}
