package client

import (
	"context"

	"vessik/internal/core/wire"
)

// Helper is a local helper of a site.
type Helper = wire.Helper

// Helpers are the local helpers that a site may have, and those that it has.
func (c *Client) Helpers(ctx context.Context, site string) (h []Helper, err error) {
	return h, c.call(ctx, "GET", sitePath(site, "/helpers"), nil, &h)
}
