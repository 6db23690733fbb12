package moving

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/singleflight"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/hosting"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
	"vessik/internal/safefile"
)

// Bounds of uploads that are fetched when somebody asks for them.
const (
	longestUpload  = 512 << 20 // bytes
	uploadWait     = 2 * time.Minute
	missingFor     = time.Minute // what the host does not have is not asked again for so long
	mostMissing    = 10_000
	uploadsAtATime = 4
)

// need says that what is missing of a site's uploads lies at a host, as it stands in the account's mirror.
type need struct {
	Site    string   `json:"site"`    // by its identity
	URL     string   `json:"url"`     // of the site at the host
	Root    string   `json:"root"`    // what is served, below the site's folder
	Folders []string `json:"folders"` // of uploads, below the site's folder
	account string
	mu      sync.Mutex
	missing map[string]time.Time // what the host did not have
	coming  singleflight.Group
	slots   chan struct{} // a host bears few visitors at a time
}

func (m mirror) needFile() string { return filepath.Join(m.dir, "by-need.json") }

// needUploads has what is missing of a site's uploads be fetched when it is asked for; or no more.
func (f *Feature) needUploads(account string, s site.Site, wanted bool) error {
	m := f.mirror(account)
	if !wanted {
		f.needs.Delete(identity(s))
		return ownfile.RemoveAll(m.needFile())
	}
	fetched, err := f.account(f.Machine.Work.Context(), account)
	if err != nil {
		return err
	}
	k := f.Machine.CMS.Of(s)
	n := &need{account: account, slots: make(chan struct{}, uploadsAtATime), Site: identity(s), URL: fetched.URL,
		Root: k.Layout.DocumentRoot, Folders: k.Layout.Uploads}
	f.needs.Store(n.Site, n)
	return writeJSON(m.needFile(), n)
}

// readNeeds reads which sites' uploads are fetched by need.
func (f *Feature) readNeeds(ctx context.Context) error {
	all, err := f.Records.Accounts(ctx)
	for _, a := range all {
		n := &need{account: a.Name, slots: make(chan struct{}, uploadsAtATime)}
		if text, err := ownfile.Read(f.mirror(a.Name).needFile()); err == nil && json.Unmarshal(text, n) == nil {
			f.needs.Store(n.Site, n)
		}
	}
	return err
}

// needNothing has no uploads be fetched of an account that is forgotten.
func (f *Feature) needNothing(account string) {
	f.needs.Range(func(site, n any) bool {
		if n.(*need).account == account {
			f.needs.Delete(site)
		}
		return true
	})
}

// Missing fetches an upload that a visitor asks for from the host where it was left, if it is one; the visitor waits for it.
func (f *Feature) Missing(ctx context.Context, s site.Site, address string) {
	found, is := f.needs.Load(identity(s))
	if !is {
		return
	}
	n := found.(*need)
	below := strings.TrimPrefix(path.Clean("/"+address), "/")
	name := path.Join(n.Root, below)
	if !safefile.Within(n.Folders, name) || !isUpload(name) || !safefile.IsVacant(s.Folder, name) || n.hasNot(name) {
		return
	}
	_, err, _ := n.coming.Do(name, func() (any, error) {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), uploadWait)
		defer cancel()
		select {
		case n.slots <- struct{}{}:
			defer func() { <-n.slots }()
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		return nil, f.fetchUpload(ctx, s, n, name, below)
	})
	if err != nil {
		n.lacks(name)
		f.Machine.Log.Info("an upload that was left at the host does not come", "site", s.Name, "file", name, "reason", err)
	}
}

// isUpload tells whether a file is one that is shown, and not one that is run or has others be.
func isUpload(name string) bool {
	ending := strings.ToLower(path.Ext(name))
	return hosting.Fits(name) && ending != "" && !strings.HasPrefix(path.Base(name), ".") && !strings.Contains(ending, "ph") &&
		ending != ".cgi"
}

func (n *need) hasNot(name string) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return time.Since(n.missing[name]) < missingFor
}

func (n *need) lacks(name string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if len(n.missing) >= mostMissing || n.missing == nil {
		n.missing = map[string]time.Time{}
	}
	n.missing[name] = time.Now()
}

// fetchUpload brings one upload into a site's folder, as a visitor of the live site would get it.
func (f *Feature) fetchUpload(ctx context.Context, s site.Site, n *need, name, below string) error {
	response, err := hosting.Fetch(ctx, n.URL+(&url.URL{Path: "/" + below}).EscapedPath())
	if err != nil {
		return err
	}
	defer response.Body.Close()
	kind, _, _ := mime.ParseMediaType(response.Header.Get("Content-Type"))
	if response.StatusCode != http.StatusOK || kind == "text/html" && !strings.HasPrefix(path.Ext(name), ".htm") {
		return fmt.Errorf("the host answers %d with %s", response.StatusCode, kind)
	}
	return writeUpload(s, name, func(to io.Writer) error {
		_, err := io.Copy(to, response.Body)
		return err
	})
}

// writeUpload puts an upload into a site's folder, unless it is longer than one can be.
func writeUpload(s site.Site, name string, read func(to io.Writer) error) error {
	return safefile.Write(s.Folder, filepath.FromSlash(name), 0o644, func(w io.Writer) error {
		return read(safefile.Bounded(w, longestUpload, errors.New("it is longer than an upload can be")))
	})
}

// newer brings the uploads that came to a host since a time, and are not here, into a site; older ones stay at the host.
func (f *Feature) newer(ctx context.Context, w *operation.Part, v *visit, at found, asked wire.Fetch, since time.Time) (int, error) {
	s, known := f.Machine.Registry.Site(site.ASCII(asked.Into))
	if !known {
		return 0, site.NoSite(asked.Into)
	}
	coming := queue[hosting.Entry]{}
	for _, e := range at.list.Entries {
		if e.Regular && safefile.Within(at.cms.Layout.Uploads, e.Path) && e.Modified.After(since) && safefile.IsVacant(s.Folder, e.Path) {
			coming.items = append(coming.items, e)
		}
	}
	count := len(coming.items)
	come := carried{tell: func(int64) { w.Progress("fetching newer uploads", -1) }}
	return count, v.insist(ctx, w, &come.bytes, func() error {
		group, ctx := errgroup.WithContext(ctx)
		for range min(uploadsAtATime, v.line.Parallel()) {
			group.Go(func() error {
				for e, ok := coming.next(); ok; e, ok = coming.next() {
					err := writeUpload(s, e.Path, func(to io.Writer) error {
						return v.line.Read(ctx, e.Path, 0, io.MultiWriter(to, come.watched()))
					})
					if err != nil && !hosting.Unreadable(err) {
						coming.back(e)
						return err
					}
				}
				return nil
			})
		}
		return group.Wait()
	})
}

// withUploads is what is asked where uploads stay at the host, all of them or older ones.
func withUploads(asked wire.Fetch) wire.Fetch {
	if (asked.ByNeed || asked.NewerUploads) && !slices.Contains(asked.Without, "uploads") {
		asked.Without = append(slices.Clone(asked.Without), "uploads")
	}
	return asked
}
