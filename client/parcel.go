package client

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"strconv"

	"vessik/internal/core/wire"
)

// What the API says of parcels.
type (
	Parcel     = wire.Parcel
	MakeParcel = wire.MakeParcel
	Lander     = wire.Lander
)

// Parcel writes a site in one file: as it is, or where point is not empty as it was at that restore point. began is told how many bytes are
// packed, before they are compressed; nil for nobody.
func (c *Client) Parcel(ctx context.Context, name, point string, asked MakeParcel, to io.Writer, began func(bytes int64)) error {
	query := url.Values{"without": asked.Without}
	for key, asked := range map[string]bool{"zip": asked.Zip, "no_database": asked.NoDatabase} {
		if asked {
			query.Set(key, "true")
		}
	}
	if asked.For != "" {
		query.Set("for", asked.For)
	}
	path := sitePath(name, "/parcel?"+query.Encode())
	if point != "" {
		path = pointPath(name, point, "/parcel?"+query.Encode())
	}
	response, err := c.send(ctx, "GET", path, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if bytes, err := strconv.ParseInt(response.Header.Get("Vessik-Bytes"), 10, 64); err == nil && began != nil {
		began(bytes)
	}
	if _, err = io.Copy(to, response.Body); err != nil {
		return fmt.Errorf("the parcel broke off, and is not whole: %w; see logs/service.log in the home folder, and try again", err)
	}
	return nil
}

// Lander makes a PHP file that lands a site's parcel at a host without Vessik; zip is the name of the parcel's file.
func (c *Client) Lander(ctx context.Context, name, zip string) (l Lander, err error) {
	return l, c.call(ctx, "POST", sitePath(name, "/lander"), wire.AskLander{Zip: zip}, &l)
}

// Unpack puts a parcel in the place of a site's files and database; the operation goes on after it returns.
func (c *Client) Unpack(ctx context.Context, name, file string, stay bool) (o Operation, err error) {
	return o, c.call(ctx, "POST", sitePath(name, "/unpack"), wire.Unpack{Parcel: file, Stay: stay}, &o)
}

// PreviewUnpacking tells what a parcel holds that would be unpacked.
func (c *Client) PreviewUnpacking(ctx context.Context, name, file string) (p Parcel, err error) {
	return p, c.call(ctx, "POST", sitePath(name, "/unpack/preview"), wire.Unpack{Parcel: file}, &p)
}
