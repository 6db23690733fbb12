package moving

import (
	"context"
	"errors"
	"fmt"
	"image"
	"path/filepath"
	"time"

	"vessik/internal/core/screens"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/hosting"
	"vessik/internal/ownfile"
	"vessik/internal/picture"
)

// picturesTime is how long both pictures may take.
const picturesTime = 2 * time.Minute

func (m mirror) picture(which string) string { return filepath.Join(m.dir, which+".jpg") }

// Pictures takes pictures of the front pages of an account's live site and of the site here that was moved from or to it last.
func (f *Feature) Pictures(ctx context.Context, account string) (wire.AccountPictures, error) {
	problem := func(field, message, remedy string) error {
		return site.Problems{{Field: field, Message: message, Remedy: remedy}}
	}
	a, err := f.account(ctx, account)
	if err != nil {
		return wire.AccountPictures{}, err
	}
	if picture.Browser() == "" {
		return wire.AccountPictures{}, problem("browser", "there is no Chromium on this machine", "install the package chromium")
	}
	s, known := f.Machine.Registry.Site(f.siteOf(account))
	if !known || s.State != site.Running {
		return wire.AccountPictures{}, problem("account", "no site that runs here was moved from or to "+account, "pull it first, or start it")
	}
	ctx, cancel := context.WithTimeout(ctx, picturesTime)
	defer cancel()
	here, err := f.Machine.Pictures.Take(ctx, s.URL(f.Machine.Gateway()), picture.Upper)
	if err != nil {
		return wire.AccountPictures{}, err
	}
	there, err := f.Machine.Pictures.TakeElsewhere(ctx, a.URL+"/", hosting.Ask)
	if err != nil {
		return wire.AccountPictures{}, fmt.Errorf("the live site: %w", err)
	}
	unlock, err := f.mirror(account).lock(ctx)
	if err != nil {
		return wire.AccountPictures{}, err
	}
	defer unlock()
	for which, taken := range map[string]image.Image{"here": here, "there": there} {
		err = errors.Join(err, picture.Save(f.mirror(account).picture(which), taken))
	}
	different, _ := screens.Compare(there, here)
	return wire.AccountPictures{Account: account, Site: s.Name, At: time.Now().UTC().Truncate(time.Second), Different: different}, err
}

// Picture is the file of one of the pictures that were taken of an account last, here or there.
func (f *Feature) Picture(ctx context.Context, account, which string) (file string, ok bool) {
	if _, err := f.account(ctx, account); err != nil || which != "here" && which != "there" {
		return "", false
	}
	file = f.mirror(account).picture(which)
	return file, ownfile.IsThere(file)
}
