package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"

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
	for lines := json.NewDecoder(response.Body); ; {
		var line WalkLine
		if err := lines.Decode(&line); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return fmt.Errorf("the walk broke off: %w", err)
		}
		if line.Error != "" {
			return errors.New(line.Error)
		}
		if err := told(line); err != nil {
			return err
		}
	}
}
