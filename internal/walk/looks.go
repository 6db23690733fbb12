package walk

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"golang.org/x/sync/errgroup"

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
	looks, pages, mu := map[string]walk.Look{}, w.order[:min(len(w.order), most)], sync.Mutex{}
	group, ctx := errgroup.WithContext(ctx)
	waiting := make(chan int, len(pages))
	for n := range pages {
		waiting <- n
	}
	close(waiting)
	for range min(picture.LookTogether, len(pages)) {
		group.Go(func() error {
			tab := f.Machine.Pictures.Open(w.base.String(), w.client.Jar.Cookies(w.base), f.Axe)
			defer tab.Close()
			for n := range waiting {
				look, err := w.look(ctx, tab, n+1, pages[n], kept)
				if err != nil {
					return err
				}
				mu.Lock()
				looks[pages[n]] = look
				err = told(wire.WalkProgress{Doing: "looking", Asked: len(looks), Known: len(pages)})
				mu.Unlock()
				if err != nil {
					return err
				}
			}
			return nil
		})
	}
	return looks, group.Wait()
}

func (w *walker) look(ctx context.Context, tab *picture.Tab, number int, path string, kept *keeping) (walk.Look, error) {
	look, pictures, err := tab.Look(ctx, w.base.Scheme+"://"+w.base.Host+path)
	if errors.Is(err, picture.ErrEnded) {
		look, pictures, err = tab.Look(ctx, w.base.Scheme+"://"+w.base.Host+path)
	}
	if err != nil {
		return look, fmt.Errorf("look at %s: %w", path, err)
	}
	for i, each := range pictures {
		name := fmt.Sprintf("%d-%d.jpg", number, picture.Widths[i].Pixels)
		if err := kept.add(name, each); err != nil {
			return look, err
		}
		look.Pictures = append(look.Pictures, name)
	}
	return look, nil
}
