package client

import (
	"context"
	"errors"

	"vessik/internal/core/walk"
	"vessik/internal/core/wire"
)

// Walk asks for a walk; WalkedPage is a page that was walked.
type (
	Walk       = wire.Walk
	WalkLine   = wire.WalkLine
	WalkedPage = walk.WalkedPage
)

// Walk walks through all pages of a site, and tells what comes as it comes.
func (c *Client) Walk(ctx context.Context, site string, asked Walk, told func(WalkLine) error) error {
	response, err := c.send(ctx, "POST", sitePath(site, "/walk"), asked)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	return lines(response.Body, func(line WalkLine) error {
		if line.Error != "" {
			return errors.New(line.Error)
		}
		return told(line)
	})
}
