package relay

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"
)

// Door is an account at a relay, for what is asked of it besides lines.
type Door struct {
	url, token string
	http       *http.Client
}

// Bounds of what a relay answers, in bytes.
const (
	mostAnswered = 32 << 20
	mostExcused  = 2 << 10
)

// NewDoor is an account at a relay; roots are those that its certificate is of, nil for the machine's own.
func NewDoor(url, token string, roots *x509.CertPool) *Door {
	transport := &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}, DialContext: dial,
		IdleConnTimeout: 20 * time.Second, ResponseHeaderTimeout: 2 * time.Minute}
	return &Door{url, token, &http.Client{Transport: transport,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}} // the token is for this host alone
}

// ErrPieces says that a relay does not have all that a copy is made of.
var ErrPieces = errors.New("some pieces are missing")

// ErrNoCopies says that a relay keeps none.
var ErrNoCopies = errors.New("this relay keeps no copies; whoever runs it starts it with -standing")

// ErrNothing says that a relay has nothing of what is asked.
var ErrNothing = errors.New("the relay has none")

// Ask asks for a path below StandingPath. The answer's body must be closed; an error says what the relay does.
func (d *Door) Ask(ctx context.Context, method, path string, body io.Reader) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, d.url+StandingPath+path, body)
	if err != nil {
		return nil, err
	}
	request.Header.Set("Authorization", "Bearer "+d.token)
	answer, err := d.http.Do(request)
	if err != nil {
		return nil, fmt.Errorf("reach the relay: %w", err)
	}
	if answer.StatusCode < 300 {
		return answer, nil
	}
	defer answer.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(answer.Body, mostExcused))
	switch said := strings.TrimSpace(string(text)); answer.StatusCode {
	case http.StatusUnauthorized:
		return nil, ErrRefused
	case http.StatusNotFound:
		return nil, fmt.Errorf("%w: %s", ErrNothing, said)
	case http.StatusNotImplemented:
		return nil, ErrNoCopies
	case http.StatusConflict:
		return nil, ErrPieces
	default:
		return nil, errors.New(cmp.Or(said, "the relay answers "+answer.Status))
	}
}

// JSON sends a value, nil for none, and reads the answer into another one, nil for none.
func (d *Door) JSON(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		text, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = strings.NewReader(string(text))
	}
	answer, err := d.Ask(ctx, method, path, body)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(io.LimitReader(answer.Body, mostAnswered)).Decode(out); err != nil {
		return fmt.Errorf("the relay answers what cannot be read: %w", err)
	}
	return nil
}
