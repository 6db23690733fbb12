package walk

import (
	"context"
	"fmt"
	"net/url"

	"vessik/internal/core/site"
	"vessik/internal/core/walk"
	"vessik/internal/core/wire"
	"vessik/internal/picture"
)

// usualLooks is how many pages a browser looks at where nothing else is asked for.
const usualLooks = 50

// looksOf is how many pages a browser is to look at.
func looksOf(asked wire.Walk) (int, error) {
	switch {
	case asked.Browser == nil && picture.Browser() == "":
		return 0, nil
	case asked.Browser == nil:
		return usualLooks, nil
	case *asked.Browser < 0:
		return 0, site.Problems{{Field: "browser", Message: fmt.Sprintf("%d is no number of pages", *asked.Browser),
			Remedy: "say how many pages a browser is to look at, or 0 for none"}}
	case *asked.Browser > 0 && picture.Browser() == "":
		return 0, site.Problems{{Field: "browser", Message: "there is no Chromium on this machine",
			Remedy: "install the package chromium, or ask for 0"}}
	}
	return *asked.Browser, nil
}

// looks has a browser look at the first pages, as whoever walks, and keeps the pictures.
func (f *Feature) looks(ctx context.Context, w *walker, most int, kept *keeping, told Told) (map[string]walk.Look, error) {
	looks, pages := map[string]walk.Look{}, w.order[:min(len(w.order), most)]
	for n, path := range pages {
		if err := told(wire.WalkProgress{Doing: "looking", Asked: n, Known: len(pages)}); err != nil {
			return nil, err
		}
		address, err := w.base.Parse(path)
		if err != nil {
			continue
		}
		look, pictures, err := f.Machine.Pictures.Look(ctx, picture.Visit{Address: address.String(), Axe: f.Axe,
			Cookies: w.client.Jar.Cookies(&url.URL{Scheme: w.base.Scheme, Host: w.base.Host, Path: address.Path})})
		if err != nil {
			return nil, fmt.Errorf("look at %s: %w", path, err)
		}
		for i, each := range pictures {
			name := fmt.Sprintf("%d-%d.jpg", n+1, picture.Widths[i].Pixels)
			if err := kept.add(name, each); err != nil {
				return nil, err
			}
			look.Pictures = append(look.Pictures, name)
		}
		looks[path] = look
	}
	return looks, nil
}
