package client

import (
	"context"
	"encoding/json"
	"io"
	"net/url"

	"vessik/internal/core/wire"
)

// Upload is a file that was brought.
type Upload = wire.Upload

// Upload brings a file, which stays for a day.
func (c *Client) Upload(ctx context.Context, name string, from io.Reader) (u Upload, err error) {
	response, err := c.send(ctx, "POST", "/uploads?name="+url.QueryEscape(name), from)
	if err != nil {
		return u, err
	}
	defer response.Body.Close()
	return u, json.NewDecoder(response.Body).Decode(&u)
}

// DropUpload drops a file that was brought.
func (c *Client) DropUpload(ctx context.Context, id string) error {
	return c.call(ctx, "DELETE", "/uploads/"+url.PathEscape(id), nil, nil)
}
