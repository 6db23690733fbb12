package moving

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	core "vessik/internal/core/hosting"
	"vessik/internal/core/wire"
	"vessik/internal/hosting"
)

// longestCheck is how long a host is looked at.
const longestCheck = 2 * time.Minute

// checks are what is found of a host, one by one.
type checks struct{ wire.HostChecks }

func (c *checks) add(id, title string, passed bool, observed, remedy string) bool {
	if passed {
		remedy = ""
	}
	c.Checks = append(c.Checks, wire.HostCheck{ID: id, Title: title, Passed: passed, Observed: observed, Remedy: remedy})
	c.Passed = c.Passed && passed
	return passed
}

// Check looks at a hosting account, from the first connection to its database. What it lays there is taken away again.
func (f *Feature) Check(ctx context.Context, name string) (wire.HostChecks, error) {
	if err := f.Operations.Free(part(name)); err != nil {
		return wire.HostChecks{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, longestCheck)
	defer cancel()
	a, err := f.account(ctx, name)
	if err != nil {
		return wire.HostChecks{}, err
	}
	c := &checks{wire.HostChecks{Account: name, Passed: true, Checks: []wire.HostCheck{}}}
	v, err := f.visiting(ctx, name)
	if !c.connected(a.At, a.HostKey, v, err) {
		return c.HostChecks, nil
	}
	found, err := v.line.List(ctx, "")
	if c.add("folder", "the folder is there", err == nil, words(err, fmt.Sprintf("%d things are in it", len(found))),
		"see the folder in -at: it is the one that is served at the account's address") {
		err = v.layHelper(ctx)
		c.add("writable", "the folder can be written", err == nil, words(err, "a helper was put there"),
			"give the user the right to write there, or see "+
				"whether the account's space is used up")
	}
	shell := v.line.Shell(ctx, "true", strings.NewReader(""), nil)
	c.add("shell", "a shell", true, map[bool]string{true: "the user may run commands", false: "none, and none is needed"}[shell == nil], "")
	if v.helper != nil {
		f.checkBehind(ctx, c, v)
	} else if v.account.Helper != "" {
		c.add("address", "the address shows the folder", false, words(v.why, ""), "see -url of the account: it is the address at which its "+
			"folder is "+
			"served, with PHP")
	}
	err = v.end(ctx)
	c.add("removed", "nothing of ours stays", err == nil, words(err, "the helper is gone"), "remove it by hand, or check again")
	return c.HostChecks, nil
}

func words(err error, good string) string {
	if err != nil {
		return err.Error()
	}
	return good
}

// connected tells how far the connection got.
func (c *checks) connected(at, pinned string, v *visit, err error) bool {
	var changed *hosting.HostKeyError
	var refused *hosting.SignInError
	reached := err == nil || errors.As(err, &changed) || errors.As(err, &refused)
	if !c.add("reached", "the host is reached", reached, words(err, at), "see host and port in -at, and whether the host is up") {
		return false
	}
	place, _ := core.ParsePlace(at) // it was judged when it was added
	switch {
	case errors.As(err, &changed):
		return c.add("host-key", "the host is who it was", false, err.Error(), "ask the host whether its key is another one now, and if so: "+
			"vessik hosting unpin "+c.Account)
	case place.Scheme == core.FTP:
		c.add("host-key", "the host is who it was", true, "nobody can tell with ftp, and password and files can be read on the way: ask for "+
			"SFTP or "+
			"FTPS", "")
	case v != nil && v.account.HostKey != "":
		shown := v.account.HostKey
		c.add("host-key", "the host is who it was", true, map[bool]string{true: shown + ", pinned now", false: shown}[pinned == ""], "")
	case v != nil:
		c.add("host-key", "the host is who it was", true, "its certificate is one that this machine trusts", "")
	}
	return c.add("signed-in", "the user is let in", err == nil, words(err, "as "+place.User), "see user and password, or add the account anew")
}

// checkBehind looks at what is behind the address.
func (f *Feature) checkBehind(ctx context.Context, c *checks, v *visit) {
	c.add("address", "the address shows the folder", true, v.account.URL, "")
	at, err := f.look(ctx, v)
	if at.cms == nil && err == nil || at.list.Entries == nil && err != nil {
		c.add("listed", "its files are listed", false, words(err, ""), "try again; see the host's own error log")
		return
	}
	looked := at.looked
	if err != nil {
		looked, _ = v.helper.Look(ctx, hosting.Configuration{})
	}
	c.add("php", "PHP", looked.PHP != "", fmt.Sprintf("%s on %s, %s a request, %d s, uploads of %s", looked.PHP, looked.Server, looked.Memory,
		looked.Time, looked.Upload), "ask the host for PHP")
	missing := []string{}
	for _, each := range []string{"mysqli", "json", "hash"} {
		if !slices.Contains(looked.Extensions, each) {
			missing = append(missing, each)
		}
	}
	c.add("extensions", "what the helper needs", len(missing) == 0, cmpWords(missing, "mysqli, json and hash are there"),
		"ask the host for them")
	ahead := v.helper.Ahead()
	c.add("clock", "the clock", ahead.Abs() < 2*time.Minute, clockWords(ahead), "tell the host: cookies and tasks go wrong by it")
	c.add("case", "names", looked.Case, map[bool]string{true: "upper and lower case differ, as here",
		false: "upper and lower case are the same there"}[looked.Case],
		"two files whose names differ in case only are one there")
	c.add("space", "space", looked.Free < 0 || looked.Free > float64(at.list.Bytes())/4, map[bool]string{true: "is not told",
		false: fmt.Sprintf("%.0f MB are free, the site takes %d MB", looked.Free/1e6, at.list.Bytes()>>20)}[looked.Free < 0],
		"make room at the host")
	if err != nil {
		c.add("cms", "a CMS that Vessik knows", false, err.Error(), "see the folder in -at")
		return
	}
	c.add("cms", "a CMS that Vessik knows", true, at.cms.Title+" "+at.version, "")
	if at.cms.Configuration.File != "" {
		c.add("database", "its database is reached", looked.Fault == "", map[bool]string{true: fmt.Sprintf("%s, %d tables, %.1f MB",
			looked.Database,
			len(looked.Tables), looked.Bytes/1e6), false: looked.Fault}[looked.Fault == ""], "see whether the site works, and what its "+
			at.cms.Configuration.File+" says")
	}
}

// clockWords say how far the host's clock is from ours; it tells seconds.
func clockWords(ahead time.Duration) string {
	switch {
	case ahead.Abs() <= 2*time.Second:
		return "goes as ours"
	case ahead > 0:
		return fmt.Sprintf("goes %s before ours", ahead)
	}
	return fmt.Sprintf("goes %s behind ours", -ahead)
}

func cmpWords(missing []string, good string) string {
	if len(missing) > 0 {
		return strings.Join(missing, ", ") + " missing"
	}
	return good
}
