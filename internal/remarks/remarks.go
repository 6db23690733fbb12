// Package remarks keeps what guests point at: a spot of a page, what is to be said of it, and a drawing; and what the builder answers.
package remarks

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"image/jpeg"
	"image/png"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/guest"
	"vessik/internal/picture"
	"vessik/internal/records"
	"vessik/internal/running"
)

// Feature is the remarks on a home's sites.
type Feature struct {
	Machine *running.Machine
	Records *records.Records

	taking  sync.Mutex
	drawing sync.Mutex // one is drawn at a time: what it takes to do so is not little

	mu     sync.Mutex
	lately map[string][]time.Time // when somebody left something, by invitation
}

// Bounds of what guests leave.
const (
	mostRemarks = 500 // of a site
	mostAnswers = 50  // of a remark
	mostLately  = 20  // by an invitation, within a minute
	mostText    = 4000
	mostSent    = 1 << 20 // bytes of a request
	mostPixels  = 6 << 20 // of a drawing
)

//go:embed remarks.js
var script []byte

// Script is what a page of an invitation by which remarks may be left ends in.
func (f *Feature) Script(i guest.Invitation) string {
	if !i.Remarks {
		return ""
	}
	return `<script src="` + guest.Path + `remarks.js" defer></script>`
}

// Answer answers a guest who leaves a remark or looks at those that there are; false for another address.
func (f *Feature) Answer(w http.ResponseWriter, r *http.Request, i guest.Invitation) bool {
	rest := strings.TrimPrefix(r.URL.Path, guest.Path)
	if !i.Remarks {
		return false
	}
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	id, isOne := strings.CutPrefix(rest, "remarks/")
	switch {
	case rest == "remarks.js" && r.Method == http.MethodGet:
		w.Header().Set("Content-Type", "text/javascript; charset=utf-8")
		w.Write(script)
	case rest == "remarks" && r.Method == http.MethodGet:
		var all []wire.Remark
		page := r.URL.Query().Get("page")
		err := isPage(r, i, page)
		if err == nil {
			all, err = f.of(r.Context(), i.Site, page)
		}
		answer(w, forGuests(all...), err)
	case r.Method != http.MethodPost || rest != "remarks" && rest != "picture" && !isOne:
		return false
	case r.Header.Get("Content-Type") != "application/json" || !fromHere(r): // no other page has a guest say something
		http.Error(w, "this is for the site's own pages", http.StatusForbidden)
	case !f.mayGoOn(i.ID):
		http.Error(w, "wait a moment: that was a lot within a minute", http.StatusTooManyRequests)
	case rest == "remarks":
		f.leave(w, r, i)
	case rest == "picture":
		f.picture(w, r, i)
	default:
		f.reply(w, r, i, id)
	}
	return true
}

// fromHere tells whether a request comes from a page of the same host.
func fromHere(r *http.Request) bool {
	from, err := url.Parse(r.Header.Get("Origin"))
	return err == nil && from.Host == r.Host
}

// isPage tells whether an address is one that a guest may see by the invitation.
func isPage(r *http.Request, i guest.Invitation, page string) error {
	asked, err := http.NewRequestWithContext(r.Context(), http.MethodGet, "http://site"+page, nil)
	if err != nil || !strings.HasPrefix(page, "/") || len(page) > 1000 || strings.ContainsFunc(page, unicode.IsControl) ||
		i.Allows(asked, func(string) bool { return false }) != "" {
		return errors.New("this is no page that you are invited to")
	}
	return nil
}

func (f *Feature) mayGoOn(invitation string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.lately == nil || len(f.lately) > 1000 {
		f.lately = map[string][]time.Time{}
	}
	now := time.Now()
	last := slices.DeleteFunc(f.lately[invitation], func(at time.Time) bool { return now.Sub(at) > time.Minute })
	f.lately[invitation] = append(last, now)
	return len(last) < mostLately
}

// forGuests are remarks as guests see them: what the builder is called on this machine is not told.
func forGuests(all ...wire.Remark) []wire.Remark {
	for i := range all {
		for j := range all[i].Answers {
			if all[i].Answers[j].Builder {
				all[i].Answers[j].Who = ""
			}
		}
	}
	return all
}

func answer(w http.ResponseWriter, value any, err error) {
	if err != nil {
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(value)
}

// of are the remarks on a page, or all.
func (f *Feature) of(ctx context.Context, name, page string) ([]wire.Remark, error) {
	all, err := f.Records.Remarks(ctx, name)
	if all == nil {
		all = []wire.Remark{}
	}
	return slices.DeleteFunc(all, func(r wire.Remark) bool { return page != "" && r.Page != page }), err
}

// left is a remark as it is sent.
type left struct {
	wire.Remark
	Drawing string `json:"drawing"` // PNG, in base64
}

func (f *Feature) leave(w http.ResponseWriter, r *http.Request, i guest.Invitation) {
	var l left
	if err := read(r, &l); err != nil {
		answer(w, nil, err)
		return
	}
	remark, drawing, err := f.checked(l, i.Site, r.UserAgent())
	if err == nil {
		err = isPage(r, i, l.Page)
	}
	if err == nil {
		remark.ID, err = f.Records.AddRemark(r.Context(), remark, drawing, mostRemarks)
	}
	if err == nil {
		f.Machine.Registry.Announce(i.Site)
	}
	answer(w, remark, err)
}

// read reads what a guest sends. What is too long is let pass, up to a bound: who still sends it would not see the answer.
func read(r *http.Request, into any) error {
	err := json.NewDecoder(io.LimitReader(r.Body, mostSent)).Decode(into)
	io.CopyN(io.Discard, r.Body, 16*mostSent)
	if err != nil {
		return errors.New("what was sent cannot be read, or is too long")
	}
	return nil
}

// checked is the remark that is kept of what was sent.
func (f *Feature) checked(l left, name, browser string) (r wire.Remark, drawing []byte, err error) {
	r = wire.Remark{Site: name, Page: l.Page, Element: l.Element, Excerpt: cut(l.Excerpt, 120), X: share(l.X), Y: share(l.Y),
		Width: min(max(l.Width, 0), 20000), Height: min(max(l.Height, 0), 20000), Browser: cut(browser, 200), Who: cut(l.Who, 60),
		Text: strings.TrimSpace(l.Text), State: wire.RemarkOpen, At: time.Now().UTC().Truncate(time.Second), Answers: []wire.Reply{}}
	if r.Who == "" {
		r.Who = "a guest"
	}
	switch {
	case r.Text == "" || len(r.Text) > mostText:
		return r, nil, fmt.Errorf("say what it is, in %d characters at the most", mostText)
	case len(r.Element) > 1000 || strings.ContainsFunc(r.Element, unicode.IsControl):
		return r, nil, errors.New("this is no part of the page")
	}
	if l.Drawing != "" {
		drawing, err = f.drawn(l.Drawing)
		r.Drawn = err == nil
	}
	return r, drawing, err
}

// drawn reads a drawing, and writes it again: nothing but a picture is kept.
func (f *Feature) drawn(encoded string) ([]byte, error) {
	wrong := errors.New("the drawing cannot be read")
	raw, err := base64.StdEncoding.DecodeString(encoded)
	if err != nil {
		return nil, wrong
	}
	size, err := png.DecodeConfig(bytes.NewReader(raw))
	if err != nil || size.Width > mostPixels || size.Height > mostPixels || size.Width*size.Height > mostPixels {
		return nil, wrong
	}
	f.drawing.Lock()
	defer f.drawing.Unlock()
	drawn, err := png.Decode(bytes.NewReader(raw))
	if err != nil {
		return nil, wrong
	}
	var out bytes.Buffer
	err = png.Encode(&out, drawn)
	return out.Bytes(), err
}

func share(x float64) float64 {
	if x != x {
		return 0
	}
	return min(max(x, 0), 1)
}

// cut is a short text on one line.
func cut(text string, most int) string {
	words := []rune(strings.Join(strings.FieldsFunc(text, func(c rune) bool { return unicode.IsSpace(c) || unicode.IsControl(c) }), " "))
	return string(words[:min(len(words), most)])
}

// reply adds a guest's answer.
func (f *Feature) reply(w http.ResponseWriter, r *http.Request, i guest.Invitation, id string) {
	var said struct{ Who, Text string }
	number, err := strconv.ParseInt(id, 10, 64)
	if err == nil {
		err = read(r, &said)
	}
	if err != nil {
		answer(w, nil, err)
		return
	}
	who := cut(said.Who, 60)
	if who == "" {
		who = "a guest"
	}
	changed, err := f.add(r.Context(), i.Site, number, wire.Reply{Who: who, Text: said.Text}, wire.RemarkOpen)
	answer(w, forGuests(changed)[0], err)
}

func (f *Feature) add(ctx context.Context, name string, id int64, reply wire.Reply, state string) (wire.Remark, error) {
	reply.Text, reply.At = strings.TrimSpace(reply.Text), time.Now().UTC().Truncate(time.Second)
	changed, err := f.Records.EditRemark(ctx, name, id, func(r *wire.Remark) error {
		switch {
		case len(reply.Text) > mostText || reply.Text == "" && !reply.Builder:
			return fmt.Errorf("say something, in %d characters at the most", mostText)
		case len(r.Answers) >= mostAnswers:
			return errors.New("there are too many answers; leave another remark")
		}
		if reply.Text != "" {
			r.Answers = append(r.Answers, reply)
		}
		r.State = state
		return nil
	})
	if err == nil {
		f.Machine.Registry.Announce(name)
	}
	return changed, err
}

// picture takes a picture of a page as nobody who is signed in sees it, in the size of the guest's window, to be drawn on.
func (f *Feature) picture(w http.ResponseWriter, r *http.Request, i guest.Invitation) {
	var asked struct {
		Page               string
		Width, Height, Top int
	}
	s, known := f.Machine.Registry.Site(i.Site)
	err := read(r, &asked)
	if err == nil {
		err = isPage(r, i, asked.Page)
	}
	if err == nil && !known {
		err = errors.New("the site is gone")
	}
	if err != nil {
		answer(w, nil, err)
		return
	}
	if !f.taking.TryLock() { // guests wait for nobody else's pictures, and nobody for theirs
		answer(w, nil, errors.New("a picture is being taken; try again in a moment"))
		return
	}
	defer f.taking.Unlock()
	taken, err := f.Machine.Pictures.TakeAlone(r.Context(), f.Machine.URL(s)+asked.Page, picture.View{
		Width: min(max(asked.Width, 200), 2560), Height: min(max(asked.Height, 200), 2000), Top: min(max(asked.Top, 0), 100000)})
	if err != nil {
		answer(w, nil, errors.New("no picture could be taken"))
		return
	}
	w.Header().Set("Content-Type", "image/jpeg")
	jpeg.Encode(w, taken, &jpeg.Options{Quality: 80})
}

// List are the remarks on a site, the oldest first.
func (f *Feature) List(ctx context.Context, name string) ([]wire.Remark, error) {
	if _, known := f.Machine.Registry.Site(site.ASCII(name)); !known {
		return nil, site.NoSite(name)
	}
	return f.of(ctx, site.ASCII(name), "")
}

// Reply has the builder answer a remark, or say where it stands.
func (f *Feature) Reply(ctx context.Context, name string, id int64, asked wire.ReplyTo, who string) (wire.Remark, error) {
	if asked.State == "" {
		asked.State = wire.RemarkAnswered
	}
	changed, err := f.add(ctx, site.ASCII(name), id, wire.Reply{Who: who, Text: asked.Text, Builder: true}, asked.State)
	return changed, known(err, id)
}

// Drop removes a remark.
func (f *Feature) Drop(ctx context.Context, name string, id int64) error {
	err := known(f.Records.DropRemark(ctx, site.ASCII(name), id), id)
	if err == nil {
		f.Machine.Registry.Announce(site.ASCII(name))
	}
	return err
}

// Drawing is what was drawn for a remark, as PNG.
func (f *Feature) Drawing(ctx context.Context, name string, id int64) ([]byte, error) {
	drawing, err := f.Records.Drawing(ctx, site.ASCII(name), id)
	return drawing, known(err, id)
}

func known(err error, id int64) error {
	if errors.Is(err, records.ErrNoRemark) {
		return site.Problems{{Field: "id", Message: fmt.Sprintf("there is no remark %d", id), Remedy: "see them with: vessik remarks NAME"}}
	}
	return err
}
