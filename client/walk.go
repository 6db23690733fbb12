package client

import (
	"context"
	"errors"
	"net/url"

	"vessik/internal/core/walk"
	"vessik/internal/core/wire"
)

// Walk asks for a walk; WalkEnd is one that is kept, WalkedPage a page that was walked.
type (
	Walk       = wire.Walk
	WalkLine   = wire.WalkLine
	WalkEnd    = wire.WalkEnd
	WalkedPage = walk.WalkedPage
)

// Walk walks through all pages of a site, and tells how far it is.
func (c *Client) Walk(ctx context.Context, site string, asked Walk, told func(wire.WalkProgress)) (walked walk.Walked, err error) {
	response, err := c.send(ctx, "POST", sitePath(site, "/walk"), asked)
	if err != nil {
		return walked, err
	}
	defer response.Body.Close()
	ended := false
	walked.Pages = []WalkedPage{}
	err = lines(response.Body, func(line WalkLine) error {
		switch {
		case line.Error != "":
			return errors.New(line.Error)
		case line.Progress != nil:
			told(*line.Progress)
		case line.Page != nil:
			walked.Pages = append(walked.Pages, *line.Page)
		case line.Compared != nil:
			walked.Compared = line.Compared
		case line.End != nil:
			e := *line.End
			walked.ID, walked.At, walked.URL, walked.As, walked.Files, walked.Looked = e.ID, e.At, e.URL, e.As, e.Files, e.Looked
			walked.Cut, walked.Milliseconds, ended = e.Cut, e.Milliseconds, true
		}
		return nil
	})
	walked.Common = walk.CommonOf(walked.Pages)
	if err == nil && !ended {
		err = errors.New("the service ended in the middle of the walk")
	}
	return walked, err
}

// Walks are those of a site that are kept, the newest first.
func (c *Client) Walks(ctx context.Context, site string) (all []WalkEnd, err error) {
	err = c.call(ctx, "GET", sitePath(site, "/walks"), nil, &all)
	return all, err
}

// EarlierWalk is one that is kept; last is the newest.
func (c *Client) EarlierWalk(ctx context.Context, site, id string) (walked walk.Walked, err error) {
	err = c.call(ctx, "GET", sitePath(site, "/walks/"+url.PathEscape(id)), nil, &walked)
	return walked, err
}

// DropWalk forgets a walk.
func (c *Client) DropWalk(ctx context.Context, site, id string) error {
	return c.call(ctx, "DELETE", sitePath(site, "/walks/"+url.PathEscape(id)), nil, nil)
}
