package standing

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/png"
	"io"
	"slices"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/mailbox"
	"vessik/internal/relay"
)

// Bounds of what is brought home.
const (
	longestMail    = 64 << 20 // in bytes
	longestDrawing = 8 << 20
	longestText    = 8 << 10
	mostRemarks    = 2000 // of a site
)

// bringMail fetches what a copy's mail was caught, the oldest first, as if it had been caught here.
func (f *Feature) bringMail(ctx context.Context, s site.Site, c wire.StandingCopy, door *relay.Door) error {
	f.home.Lock()
	defer f.home.Unlock()
	var mails []wire.Mail
	if err := door.JSON(ctx, "GET", c.Key+"/mail", nil, &mails); err != nil {
		return err
	}
	for i := len(mails) - 1; i >= 0; i-- {
		at := fmt.Sprintf("%s/mail/%d", c.Key, mails[i].ID)
		answer, err := door.Ask(ctx, "GET", at, nil)
		if err != nil {
			return err
		}
		way := mailbox.ByProgram
		if mails[i].Way == mailbox.BySMTP {
			way = mailbox.BySMTP
		}
		err = f.Mail.Take(ctx, s.Name, way, mails[i].From, mails[i].To, io.LimitReader(answer.Body, longestMail))
		answer.Body.Close()
		if err != nil {
			return err
		}
		if err := door.JSON(ctx, "DELETE", at, nil, nil); err != nil {
			return err
		}
	}
	return nil
}

// bringRemarks keeps the remarks on a copy with those on the site.
func (f *Feature) bringRemarks(ctx context.Context, s site.Site, c wire.StandingCopy, door *relay.Door) error {
	f.home.Lock()
	defer f.home.Unlock()
	all, err := f.remarks(ctx, c, door)
	if err != nil {
		return err
	}
	home, err := f.Records.Remarks(ctx, s.Name)
	if err != nil {
		return err
	}
	for _, r := range all {
		if slices.ContainsFunc(home, func(h wire.Remark) bool { // it came before the line broke
			return h.At.Equal(r.At) && h.Page == r.Page && h.Who == r.Who && h.Text == r.Text
		}) {
			continue
		}
		var drawing []byte
		if r.Drawn {
			answer, err := door.Ask(ctx, "GET", fmt.Sprintf("%s/remarks/%d", c.Key, r.ID), nil)
			if err != nil {
				return err
			}
			drawing, err = io.ReadAll(io.LimitReader(answer.Body, longestDrawing))
			answer.Body.Close()
			if _, wrong := png.DecodeConfig(bytes.NewReader(drawing)); err != nil || wrong != nil {
				return errors.Join(err, wrong)
			}
		}
		r.Site, r.ID, r.Text = s.Name, 0, r.Text[:min(len(r.Text), longestText)]
		if _, err := f.Records.AddRemark(ctx, r, drawing, mostRemarks); err != nil {
			return err
		}
	}
	f.Machine.Registry.Announce(s.Name)
	return nil
}
