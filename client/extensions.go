package client

import (
	"context"
	"net/url"

	"vessik/internal/core/wire"
)

// Extension is one that Debian has for a PHP.
type Extension = wire.Extension

// Extensions lists what Debian has for a PHP besides what it brings.
func (c *Client) Extensions(ctx context.Context, id string) (all []Extension, err error) {
	return all, c.call(ctx, "GET", "/engines/"+url.PathEscape(id)+"/extensions", nil, &all)
}

// FetchExtensions has them fetched; the operation goes on after it returns.
func (c *Client) FetchExtensions(ctx context.Context, id string, names ...string) (o Operation, err error) {
	return o, c.call(ctx, "POST", "/engines/"+url.PathEscape(id)+"/extensions", wire.FetchExtensions{Names: names}, &o)
}
