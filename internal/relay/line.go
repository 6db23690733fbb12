package relay

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"
	"github.com/hashicorp/yamux"
	"golang.org/x/net/netutil"

	"vessik/internal/names"
)

// How a broken line is mended: the pause doubles from one try to the next.
const (
	firstPause = 200 * time.Millisecond
	lastPause  = 30 * time.Second
	dialTime   = 20 * time.Second
	byeTime    = 500 * time.Millisecond // to say that the service ends
)

// Line is a service's end. Run keeps it up; what was lent is asked for again on each new one.
type Line struct {
	URL     string // of the relay, such as https://guests.example
	Token   string
	Roots   *x509.CertPool // that the relay's certificate is of; nil for the machine's own
	Handler http.Handler   // answers guests; RemoteAddr is the guest's
	// Told is told that the line stands, or why it does not.
	Told func(err error)
	// Lost is told of an address that is no longer lent, since the relay says so.
	Lost func(label string, err error)

	dialer  func(ctx context.Context, network, address string) (net.Conn, error)
	mu      sync.Mutex
	talk    *talk // nil while there is no line
	changed chan struct{}
	lent    map[string]bool
	waiting map[int]chan said
	last    int
}

// NewLine is one that does not stand yet.
func NewLine(url, token string, roots *x509.CertPool, handler http.Handler) *Line {
	return &Line{URL: strings.TrimSuffix(url, "/"), Token: token, Roots: roots, Handler: handler, Told: func(error) {},
		Lost: func(string, error) {}, dialer: dial, changed: make(chan struct{}), lent: map[string]bool{}, waiting: map[int]chan said{}}
}

// Run keeps the line up until the context ends.
func (l *Line) Run(ctx context.Context) {
	pause := firstPause
	for ctx.Err() == nil {
		began := time.Now()
		err := l.once(ctx)
		if ctx.Err() != nil {
			return
		}
		l.Told(err)
		if time.Since(began) > lastPause {
			pause = firstPause
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		pause = min(2*pause, lastPause)
	}
}

// mostStreams is how many guests' connections a relay may have open here at a time, whatever it is told to.
const mostStreams = 512

// ErrRefused says that the relay does not know the token.
var ErrRefused = errors.New("the relay does not know this token; get another one from whoever runs it")

// dial opens a line.
func (l *Line) dial(ctx context.Context) (*yamux.Session, error) {
	ctx, cancel := context.WithTimeout(ctx, dialTime)
	defer cancel()
	transport := &http.Transport{TLSClientConfig: &tls.Config{RootCAs: l.Roots, MinVersion: tls.VersionTLS12}, DialContext: l.dialer}
	defer transport.CloseIdleConnections() // of a relay that did not let it in
	socket, answer, err := websocket.Dial(ctx, l.URL+LinePath, &websocket.DialOptions{HTTPClient: &http.Client{Transport: transport},
		HTTPHeader: http.Header{"Authorization": {"Bearer " + l.Token}}})
	if answer != nil && answer.StatusCode == http.StatusUnauthorized {
		return nil, ErrRefused
	}
	if answer != nil && err != nil && answer.StatusCode != http.StatusSwitchingProtocols {
		return nil, fmt.Errorf("%s answers %s; see whether a relay is there", l.URL, answer.Status)
	}
	if err != nil {
		return nil, fmt.Errorf("reach the relay: %w", err)
	}
	return yamux.Client(overSocket(context.WithoutCancel(ctx), socket), settings())
}

// Try tells whether the relay lets this service in.
func (l *Line) Try(ctx context.Context) error {
	session, err := l.dial(ctx)
	if err == nil {
		session.Close()
	}
	return err
}

func dial(ctx context.Context, network, address string) (net.Conn, error) {
	return names.Dial(ctx, network, address, dialTime)
}

// once has the line stand until it breaks.
func (l *Line) once(ctx context.Context) error {
	session, err := l.dial(ctx)
	if err != nil {
		return err
	}
	defer session.Close()
	first, err := session.Open()
	if err != nil {
		return err
	}
	t := talkOn(first)
	stop := context.AfterFunc(ctx, func() {
		first.SetWriteDeadline(time.Now().Add(byeTime))
		t.say(said{Bye: true})
		session.Close()
	})
	defer stop()
	server := &http.Server{Handler: asGuest(l.Handler), ReadHeaderTimeout: 30 * time.Second, ErrorLog: log.New(io.Discard, "", 0)}
	defer server.Close()
	var serving sync.WaitGroup
	serving.Go(func() { server.Serve(netutil.LimitListener(session, mostStreams)) })
	defer serving.Wait()
	defer session.Close()
	l.stand(t)
	defer l.stand(nil)
	l.Told(nil)
	lending, done := context.WithCancel(ctx)
	var again sync.WaitGroup
	again.Go(func() { l.lendAgain(lending) })
	defer again.Wait()
	defer done() // nobody answers it any more
	for {
		message, err := t.hear()
		if err != nil {
			return fmt.Errorf("the line to the relay broke: %w", err)
		}
		l.mu.Lock()
		waits := l.waiting[message.ID]
		delete(l.waiting, message.ID)
		l.mu.Unlock()
		if waits != nil {
			waits <- message
		}
	}
}

// stand notes that the line stands, or, by nil, that it does not.
func (l *Line) stand(t *talk) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.talk = t
	close(l.changed)
	l.changed = make(chan struct{})
	if t == nil {
		for id, waits := range l.waiting {
			close(waits)
			delete(l.waiting, id)
		}
	}
}

// lendAgain asks for what was lent on the line before.
func (l *Line) lendAgain(ctx context.Context) {
	l.mu.Lock()
	labels := []string{}
	for label := range l.lent {
		labels = append(labels, label)
	}
	l.mu.Unlock()
	for _, label := range labels {
		if answer, err := l.ask(ctx, said{Lend: true, Label: label}); err == nil && answer.Error != "" {
			l.mu.Lock()
			delete(l.lent, label)
			l.mu.Unlock()
			l.Lost(label, errors.New(answer.Error))
		}
	}
}

// Stands tells whether the line stands now.
func (l *Line) Stands() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.talk != nil
}

// ask asks the relay, and waits for the line for as long as the context lasts.
func (l *Line) ask(ctx context.Context, message said) (answer said, err error) {
	for {
		l.mu.Lock()
		t, changed := l.talk, l.changed
		waits := make(chan said, 1)
		if t != nil {
			l.last++
			message.ID = l.last
			l.waiting[message.ID] = waits
		}
		l.mu.Unlock()
		if t != nil && t.say(message) == nil {
			select {
			case answer, ok := <-waits:
				if ok {
					return answer, nil
				}
			case <-ctx.Done():
				return answer, ctx.Err()
			}
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return answer, ctx.Err()
		}
	}
}

// Lend asks for an address: one that cannot be guessed where no label is named.
func (l *Line) Lend(ctx context.Context, label string) (lent, base string, err error) {
	answer, err := l.ask(ctx, said{Lend: true, Label: label})
	if err == nil && answer.Error != "" {
		err = errors.New(answer.Error)
	}
	if err != nil {
		return "", "", err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.lent[answer.Label] = true
	return answer.Label, answer.Base, nil
}

// GiveBack ends an address. Where the line is broken the relay ends it by itself, some time later.
func (l *Line) GiveBack(ctx context.Context, label string) error {
	l.mu.Lock()
	delete(l.lent, label)
	stands := l.talk != nil
	l.mu.Unlock()
	if !stands {
		return nil
	}
	_, err := l.ask(ctx, said{End: true, Label: label})
	return err
}

// asGuest has a handler see whom the relay says to ask.
func asGuest(handler http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		guest := r.Header.Get("X-Forwarded-For")
		if net.ParseIP(guest) == nil {
			guest = "0.0.0.0"
		}
		r.RemoteAddr = net.JoinHostPort(guest, "0")
		for _, name := range []string{"X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto", "Forwarded"} {
			r.Header.Del(name)
		}
		handler.ServeHTTP(w, r)
	})
}
