package client

import (
	"context"
	"net/url"

	"vessik/internal/core/wire"
)

// What the API says of restore points.
type (
	RestorePoint   = wire.RestorePoint
	RestorePreview = wire.RestorePreview
	VerifiedPoints = wire.VerifiedPoints
	DamagedPoint   = wire.DamagedPoint
	RestoreRules   = wire.RestoreRules

	SetRestoreRules = wire.SetRestoreRules
)

// RestorePoints lists a site's, the newest first.
func (c *Client) RestorePoints(ctx context.Context, name string) (points []RestorePoint, err error) {
	return points, c.call(ctx, "GET", sitePath(name, "/restore"), nil, &points)
}

// MakePoint takes a restore point; the operation goes on after it returns.
func (c *Client) MakePoint(ctx context.Context, name, note string) (o Operation, err error) {
	return o, c.call(ctx, "POST", sitePath(name, "/restore"), wire.MakePoint{Note: note}, &o)
}

// GoBack leads a site back to a restore point; the operation goes on after it returns.
func (c *Client) GoBack(ctx context.Context, name, id string, stay bool) (o Operation, err error) {
	return o, c.call(ctx, "POST", pointPath(name, id, "/back"), wire.GoBack{Stay: stay}, &o)
}

// PreviewGoBack says what going back would change.
func (c *Client) PreviewGoBack(ctx context.Context, name, id string) (p RestorePreview, err error) {
	return p, c.call(ctx, "POST", pointPath(name, id, "/preview"), nil, &p)
}

// VerifyPoints reads all that a site's restore points are made of.
func (c *Client) VerifyPoints(ctx context.Context, name string) (v VerifiedPoints, err error) {
	err = c.call(ctx, "POST", sitePath(name, "/restore/verify"), nil, &v)
	return v, err
}

// DropPoint drops a restore point.
func (c *Client) DropPoint(ctx context.Context, name, id string) error {
	return c.call(ctx, "DELETE", pointPath(name, id, ""), nil, nil)
}

// RestoreRules say when a site's points are taken by themselves.
func (c *Client) RestoreRules(ctx context.Context, name string) (r RestoreRules, err error) {
	return r, c.call(ctx, "GET", sitePath(name, "/restore/rules"), nil, &r)
}

// SetRestoreRules asks for others.
func (c *Client) SetRestoreRules(ctx context.Context, name string, asked SetRestoreRules) (r RestoreRules, err error) {
	return r, c.call(ctx, "PATCH", sitePath(name, "/restore/rules"), asked, &r)
}

func pointPath(name, id, what string) string {
	return sitePath(name, "/restore/"+url.PathEscape(id)+what)
}
