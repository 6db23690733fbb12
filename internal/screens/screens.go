// Package screens takes pictures of a site's pages in windows of many sizes.
package screens

import (
	"context"
	"fmt"
	"strings"
	"time"
	"unicode"

	core "vessik/internal/core/screens"
	"vessik/internal/core/site"
	"vessik/internal/picture"
	"vessik/internal/running"
)

const settleTime = 400 * time.Millisecond

// Feature is the pictures of one machine.
type Feature struct {
	Machine *running.Machine
}

// Asked is one picture.
type Asked struct {
	Path string
	core.Size
	Dark bool
}

// Take is a picture of a whole page of a running site, PNG.
func (f *Feature) Take(ctx context.Context, name string, asked Asked) ([]byte, error) {
	s, known := f.Machine.Registry.Site(site.ASCII(name))
	if !known {
		return nil, site.NoSite(name)
	}
	problem := func(field, message, remedy string) ([]byte, error) {
		return nil, site.Problems{{Site: s.Name, Field: field, Message: message, Remedy: remedy}}
	}
	switch {
	case s.State != site.Running:
		return problem("name", fmt.Sprintf("%s is %s", s.Name, s.State), "start it first: vessik start "+s.Name)
	case !strings.HasPrefix(asked.Path, "/") || strings.HasPrefix(asked.Path, "//") || len(asked.Path) > 2000 ||
		strings.ContainsFunc(asked.Path, unicode.IsControl):
		return problem("path", fmt.Sprintf("%.100q is no page of the site", asked.Path), "begin with a slash, such as /about/")
	}
	return f.Machine.Pictures.Shot(ctx, f.Machine.URL(s)+asked.Path,
		picture.View{Width: asked.Width, Height: asked.Height, Phone: asked.Phone, Dark: asked.Dark, Whole: true, Settle: settleTime})
}
