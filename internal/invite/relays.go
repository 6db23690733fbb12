package invite

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"vessik/internal/authority"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/names"
	"vessik/internal/records"
	"vessik/internal/relay"
)

// joined is a relay with the line to it.
type joined struct {
	records.Relay
	line *relay.Line
	door *relay.Door
	end  context.CancelFunc
	why  error // the line does not stand
}

func (j *joined) shown() wire.Relay {
	w := wire.Relay{Host: j.Host, URL: j.URL, JoinedAt: j.JoinedAt, Stands: j.line.Stands()}
	if j.Certificate != "" {
		w.Fingerprint = authority.PrintOf(j.Certificate)
	}
	if !w.Stands && j.why != nil {
		w.Why = j.why.Error()
	}
	return w
}

// Relays are those that this home has an account at.
func (f *Feature) Relays() []wire.Relay {
	f.mu.Lock()
	defer f.mu.Unlock()
	all := []wire.Relay{}
	for _, j := range f.relays {
		all = append(all, j.shown())
	}
	slices.SortFunc(all, func(a, b wire.Relay) int { return strings.Compare(a.Host, b.Host) })
	return all
}

func problem(field, message, remedy string) error {
	return site.Problems{{Field: field, Message: message, Remedy: remedy}}
}

// Join has this home use a relay. The line must stand once: nothing is recorded of one that lets nobody in.
func (f *Feature) Join(ctx context.Context, asked wire.JoinRelay) (wire.Relay, error) {
	address, err := url.Parse(strings.TrimSuffix(asked.URL, "/"))
	if err != nil || address.Scheme != "https" || address.Hostname() == "" || address.Path != "" || address.RawQuery != "" ||
		address.User != nil {
		return wire.Relay{}, problem("url", fmt.Sprintf("%q is no address of a relay", asked.URL), "say https:// and its host, and a port if "+
			"it has one of its own")
	}
	if asked.Token == "" {
		return wire.Relay{}, problem("token", "is empty", "whoever runs the relay makes one: vessik relay token add NAME")
	}
	r := records.Relay{Host: address.Host, URL: address.String(), Token: asked.Token, JoinedAt: time.Now().UTC().Truncate(time.Second)}
	if r.Certificate, err = certificateOf(ctx, address, strings.ToLower(strings.ReplaceAll(asked.Fingerprint, ":", ""))); err != nil {
		return wire.Relay{}, problem("url", err.Error(), "see whether a relay runs there, and ask whoever runs it for its fingerprint")
	}
	if err := f.line(r).Try(ctx); errors.Is(err, relay.ErrRefused) { // before anything is given up that stands
		return wire.Relay{}, problem("token", "the relay does not know it", "get another one from whoever runs it: vessik relay token add NAME")
	} else if err != nil {
		return wire.Relay{}, problem("url", err.Error(), "see whether a relay runs there")
	}
	if err := f.Records.SaveRelay(ctx, r); err != nil {
		return wire.Relay{}, err
	}
	f.leave(r.Host)
	j := f.connect(r)
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	j.stood(ctx)
	f.mu.Lock()
	defer f.mu.Unlock()
	return j.shown(), nil
}

// stood waits for a line that was tried to stand.
func (j *joined) stood(ctx context.Context) {
	for !j.line.Stands() && ctx.Err() == nil {
		select {
		case <-ctx.Done():
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Leave has this home use a relay no more: what it lends ends.
func (f *Feature) Leave(ctx context.Context, host string) error {
	if !f.leave(host) {
		return problem("relay", fmt.Sprintf("this home has no account at %q", host), "see where it has: vessik relays")
	}
	return f.Records.DropRelay(ctx, host)
}

// leave ends the line to a relay, with all that it lends; false where there is none.
func (f *Feature) leave(host string) bool {
	f.mu.Lock()
	j := f.relays[host]
	delete(f.relays, host)
	f.mu.Unlock()
	if j == nil {
		return false
	}
	f.endWhere(func(o *opened) bool { return o.relay == j })
	j.end()
	return true
}

// line is one to a relay, which does not stand yet.
func (f *Feature) line(r records.Relay) *relay.Line {
	return relay.NewLine(r.URL, r.Token, rootsOf(r), f.Guests)
}

// rootsOf are those that a relay's certificate is of; nil for the machine's own.
func rootsOf(r records.Relay) *x509.CertPool {
	if r.Certificate == "" {
		return nil
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM([]byte(r.Certificate))
	return roots
}

// Doors are the relays that this home has an account at: the one that is named, or all.
func (f *Feature) Doors(host string) (map[string]*relay.Door, error) {
	doors := map[string]*relay.Door{}
	if host != "" {
		j, err := f.chosen(host)
		if err != nil {
			return nil, err
		}
		doors[j.Host] = j.door
		return doors, nil
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	for host, j := range f.relays {
		doors[host] = j.door
	}
	if len(doors) == 0 {
		return nil, problem("relay", "this home has an account at no relay", "join one: vessik relays join https://HOST -token TOKEN")
	}
	return doors, nil
}

// connect has a line be kept up to a relay.
func (f *Feature) connect(r records.Relay) *joined {
	ctx, end := context.WithCancel(f.Machine.Work.Context())
	j := &joined{Relay: r, end: end, line: f.line(r), door: relay.NewDoor(r.URL, r.Token, rootsOf(r))}
	j.line.Told = func(err error) {
		f.mu.Lock()
		defer f.mu.Unlock()
		if err != nil && (j.why == nil || j.why.Error() != err.Error()) {
			f.Machine.Log.Warn("the line to a relay does not stand", "relay", r.Host, "reason", err)
		}
		j.why = err
	}
	j.line.Lost = func(label string, err error) {
		f.endWhere(func(o *opened) bool { return o.relay == j && slices.Contains(o.labels, label) })
		f.Machine.Log.Warn("a relay lends an address no more", "relay", r.Host, "address", label, "reason", err)
	}
	f.mu.Lock()
	f.relays[r.Host] = j
	f.mu.Unlock()
	f.Machine.Work.Go(func() { j.line.Run(ctx) })
	return j
}

// certificateOf looks at the certificate that a relay shows: nothing is to be pinned where an authority vouches for it that this machine
// believes. Another one is pinned on first use, unless it is not the one that was named.
func certificateOf(ctx context.Context, at *url.URL, fingerprint string) (pinned string, err error) {
	const within = 10 * time.Second
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	plain, err := names.Dial(ctx, "tcp", net.JoinHostPort(at.Hostname(), cmp.Or(at.Port(), "443")), within)
	if err != nil {
		return "", fmt.Errorf("the relay is not reached: %w", err)
	}
	defer plain.Close()
	secure := tls.Client(plain, &tls.Config{ServerName: at.Hostname(), InsecureSkipVerify: true, MinVersion: tls.VersionTLS12}) // judged below
	if err := secure.HandshakeContext(ctx); err != nil {
		return "", fmt.Errorf("it does not speak TLS: %w", err)
	}
	shown := secure.ConnectionState().PeerCertificates
	last := shown[len(shown)-1]
	if is := authority.Fingerprint(last); fingerprint != "" && is != fingerprint {
		return "", fmt.Errorf("the relay shows a certificate with the fingerprint %s, and not the one that was named", is)
	}
	between := x509.NewCertPool()
	for _, each := range shown[1:] {
		between.AddCert(each)
	}
	_, err = shown[0].Verify(x509.VerifyOptions{DNSName: at.Hostname(), Intermediates: between})
	var unknown x509.UnknownAuthorityError
	switch {
	case err == nil:
		return "", nil
	case errors.As(err, &unknown):
		roots := x509.NewCertPool()
		roots.AddCert(last)
		if _, err = shown[0].Verify(x509.VerifyOptions{DNSName: at.Hostname(), Intermediates: between, Roots: roots}); err == nil {
			return string(authority.PEM(last)), nil
		}
	}
	return "", err
}
