package client

import (
	"context"
	"fmt"
	"io"

	"vessik/internal/core/wire"
)

// What the API says of remarks.
type (
	Remark  = wire.Remark
	ReplyTo = wire.ReplyTo
)

// Remarks are those on a site, the oldest first.
func (c *Client) Remarks(ctx context.Context, name string) (all []Remark, err error) {
	return all, c.call(ctx, "GET", sitePath(name, "/remarks"), nil, &all)
}

// AnswerRemark answers a remark, or says where it stands.
func (c *Client) AnswerRemark(ctx context.Context, name string, id int64, asked ReplyTo) (r Remark, err error) {
	return r, c.call(ctx, "POST", sitePath(name, fmt.Sprintf("/remarks/%d", id)), asked, &r)
}

// DropRemark removes a remark.
func (c *Client) DropRemark(ctx context.Context, name string, id int64) error {
	return c.call(ctx, "DELETE", sitePath(name, fmt.Sprintf("/remarks/%d", id)), nil, nil)
}

// Drawing is what was drawn for a remark, PNG.
func (c *Client) Drawing(ctx context.Context, name string, id int64) ([]byte, error) {
	response, err := c.send(ctx, "GET", sitePath(name, fmt.Sprintf("/remarks/%d/drawing.png", id)), nil)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	return io.ReadAll(response.Body)
}
