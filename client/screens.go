package client

import (
	"context"
	"io"
	"net/url"
	"strconv"
)

// Screen writes a picture of a whole page, PNG, in a window of a size such as phone or 390x844.
func (c *Client) Screen(ctx context.Context, name, path, size string, dark bool, to io.Writer) error {
	query := url.Values{"path": {path}, "size": {size}, "dark": {strconv.FormatBool(dark)}}
	response, err := c.send(ctx, "GET", sitePath(name, "/screen.png?"+query.Encode()), nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.Copy(to, response.Body)
	return err
}
