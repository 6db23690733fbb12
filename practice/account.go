package practice

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	_ "embed"
	"encoding/json"
	"errors"
	"html/template"
	"io/fs"
	"net"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pquerna/otp/totp"
	"golang.org/x/crypto/ssh"

	"vessik/internal/ownfile"
)

// Customer signs in at the account page, with a one-time code (RFC 6238).
type Customer struct {
	Password string `json:"password"`
	Secret   string `json:"secret"`         // of the codes, in base32
	Last     string `json:"last,omitempty"` // code that was used: none is good twice
}

// How long the page lends what.
const (
	codeLasts       = 10 * time.Minute
	tokenLasts      = time.Hour
	credentialsLast = 15 * time.Minute
	pollEvery       = time.Second
	mostTries       = 5 // wrong sign-ins, after which a customer waits
	triesWait       = 30 * time.Second
)

// accounts is the host's account page, and its directory of environments: docs/directory.md.
type accounts struct {
	host *Host

	mu        sync.Mutex
	customers map[string]Customer
	devices   map[string]*device // by device code
	tokens    map[string]lent    // customers by token
	passwords map[string][]lent  // of environments, for a time
	wrong     map[string][]time.Time
}

// device is a program that waits for a customer to let it in.
type device struct {
	userCode string
	until    time.Time
	asked    time.Time
	customer string // who let it in
	refused  bool
}

type lent struct {
	value string
	until time.Time
}

//go:embed account.html
var accountText string

var accountPage = template.Must(template.New("account").Parse(accountText))

func newAccounts(h *Host) *accounts {
	return &accounts{host: h, customers: map[string]Customer{}, devices: map[string]*device{}, tokens: map[string]lent{},
		passwords: map[string][]lent{}, wrong: map[string][]time.Time{}}
}

func (a *accounts) file() string { return filepath.Join(a.host.Dir, "page.json") }

// customer is one by name, with a password and a secret that are made at the first use.
func (a *accounts) customer(name string) (Customer, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if len(a.customers) == 0 {
		text, err := ownfile.Read(a.file())
		if err == nil {
			err = json.Unmarshal(text, &a.customers)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return Customer{}, err
		}
	}
	if c, known := a.customers[name]; known {
		return c, nil
	}
	key, err := totp.Generate(totp.GenerateOpts{Issuer: "Practice host", AccountName: name})
	if err != nil {
		return Customer{}, err
	}
	c := Customer{Password: strings.ToLower(rand.Text()[:20]), Secret: key.Secret()}
	a.customers[name] = c
	return c, a.keep()
}

// keep writes the customers down; the lock is held.
func (a *accounts) keep() error {
	text, err := json.MarshalIndent(a.customers, "", "  ")
	if err != nil {
		return err
	}
	return ownfile.Write(a.file(), text, 0o600)
}

// Customer is who signs in at the account page under a name.
func (h *Host) Customer(name string) (Customer, error) { return h.page.customer(name) }

// Code is the one-time code of a customer at a time.
func (c Customer) Code(at time.Time) (string, error) { return totp.GenerateCode(c.Secret, at) }

func (h *Host) servePage(ctx context.Context, listener net.Listener) error {
	server := &http.Server{Handler: h.page.routes("http://" + listener.Addr().String()), ReadHeaderTimeout: 10 * time.Second}
	stop := context.AfterFunc(ctx, func() { server.Close() })
	defer stop()
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

func (a *accounts) routes(base string) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/oauth-authorization-server", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusOK, map[string]any{"issuer": base, "device_authorization_endpoint": base + "/device/code",
			"token_endpoint": base + "/token", "environments_endpoint": base + "/environments", "response_types_supported": []string{},
			"grant_types_supported": []string{deviceGrant}})
	})
	mux.HandleFunc("POST /device/code", func(w http.ResponseWriter, r *http.Request) { a.begin(w, r, base) })
	mux.HandleFunc("POST /token", a.token)
	mux.HandleFunc("GET /device", func(w http.ResponseWriter, r *http.Request) {
		show(w, http.StatusOK, r.FormValue("user_code"), "", false)
	})
	mux.HandleFunc("POST /device", a.letIn)
	mux.HandleFunc("GET /environments", a.environments)
	mux.HandleFunc("POST /environments/{name}/credentials", a.credentials)
	return mux
}

const deviceGrant = "urn:ietf:params:oauth:grant-type:device_code"

func answer(w http.ResponseWriter, status int, value any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(value)
}

func refuse(w http.ResponseWriter, why string) {
	answer(w, http.StatusBadRequest, map[string]string{"error": why})
}

func show(w http.ResponseWriter, status int, code, words string, done bool) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'")
	w.WriteHeader(status)
	accountPage.Execute(w, struct {
		Code, Words string
		Done        bool
	}{code, words, done})
}

// begin gives a program the codes by which it is let in (RFC 8628, section 3.2).
func (a *accounts) begin(w http.ResponseWriter, r *http.Request, base string) {
	if r.FormValue("client_id") == "" {
		refuse(w, "invalid_client")
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	now := time.Now()
	for code, d := range a.devices {
		if now.After(d.until) {
			delete(a.devices, code)
		}
	}
	code := userCode()
	device, secret := &device{userCode: code, until: now.Add(codeLasts)}, rand.Text()
	a.devices[secret] = device
	answer(w, http.StatusOK, map[string]any{"device_code": secret, "user_code": code, "verification_uri": base + "/device",
		"verification_uri_complete": base + "/device?user_code=" + code, "expires_in": int(codeLasts.Seconds()),
		"interval": int(pollEvery.Seconds())})
}

// userCode is of letters that are no vowels, and look like nothing else (RFC 8628, section 6.1).
func userCode() string {
	const letters = "BCDFGHJKLMNPQRSTVWXZ"
	raw := make([]byte, 8)
	rand.Read(raw)
	for i := range raw {
		raw[i] = letters[int(raw[i])%len(letters)]
	}
	return string(raw[:4]) + "-" + string(raw[4:])
}

// token tells a program whether it was let in (RFC 8628, section 3.5).
func (a *accounts) token(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	code := r.FormValue("device_code")
	d := a.devices[code]
	now := time.Now()
	switch {
	case r.FormValue("grant_type") != deviceGrant:
		refuse(w, "unsupported_grant_type")
	case d == nil:
		refuse(w, "invalid_grant")
	case now.After(d.until):
		delete(a.devices, code)
		refuse(w, "expired_token")
	case d.refused:
		delete(a.devices, code)
		refuse(w, "access_denied")
	case now.Sub(d.asked) < pollEvery*9/10:
		d.asked = now
		refuse(w, "slow_down")
	case d.customer == "":
		d.asked = now
		refuse(w, "authorization_pending")
	default:
		delete(a.devices, code)
		token := rand.Text()
		a.tokens[token] = lent{d.customer, now.Add(tokenLasts)}
		answer(w, http.StatusOK, map[string]any{"access_token": token, "token_type": "Bearer", "expires_in": int(tokenLasts.Seconds())})
	}
}

// letIn has a customer let a program in, or refuse it.
func (a *accounts) letIn(w http.ResponseWriter, r *http.Request) {
	name, code := r.PostFormValue("customer"), strings.ToUpper(strings.TrimSpace(r.PostFormValue("user_code")))
	known := a.rents(name)
	if known {
		_, err := a.customer(name)
		known = err == nil
	}
	if !known {
		show(w, http.StatusForbidden, code, "Name, password or one-time code is wrong.", false)
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	now := time.Now()
	a.wrong[name] = slices.DeleteFunc(a.wrong[name], func(at time.Time) bool { return now.Sub(at) > triesWait })
	c := a.customers[name]
	digits := strings.ReplaceAll(r.PostFormValue("code"), " ", "")
	switch {
	case len(a.wrong[name]) >= mostTries:
		show(w, http.StatusTooManyRequests, code, "Too many tries: wait half a minute.", false)
		return
	case subtle.ConstantTimeCompare([]byte(r.PostFormValue("password")), []byte(c.Password)) != 1 || !totp.Validate(digits, c.Secret) ||
		digits == c.Last:
		a.wrong[name] = append(a.wrong[name], now)
		show(w, http.StatusForbidden, code, "Name, password or one-time code is wrong.", false)
		return
	}
	c.Last = digits
	a.customers[name] = c
	if err := a.keep(); err != nil {
		show(w, http.StatusInternalServerError, code, err.Error(), false)
		return
	}
	for _, d := range a.devices {
		if d.userCode == code && now.Before(d.until) && d.customer == "" && !d.refused {
			if d.refused = r.PostFormValue("do") == "refuse"; d.refused {
				show(w, http.StatusOK, "", "It was refused.", true)
				return
			}
			d.customer = name
			show(w, http.StatusOK, "", "It is let in. You can close this page.", true)
			return
		}
	}
	show(w, http.StatusNotFound, code, "No program waits with that code: look at it again.", false)
}

// rents tells whether somebody is a customer.
func (a *accounts) rents(name string) bool {
	a.host.mu.Lock()
	defer a.host.mu.Unlock()
	for _, e := range a.host.environments {
		if e.Customer == name {
			return true
		}
	}
	return false
}

// who is the customer of a request; it is answered where there is none.
func (a *accounts) who(w http.ResponseWriter, r *http.Request) (customer string, ok bool) {
	token, is := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	a.mu.Lock()
	of, known := a.tokens[token]
	a.mu.Unlock()
	if !is || !known || time.Now().After(of.until) {
		w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`) // RFC 6750
		answer(w, http.StatusUnauthorized, map[string]string{"error": "invalid_token"})
		return "", false
	}
	return of.value, true
}

// environments lists where a customer has sites.
func (a *accounts) environments(w http.ResponseWriter, r *http.Request) {
	customer, ok := a.who(w, r)
	if !ok {
		return
	}
	all := []map[string]string{}
	a.host.mu.Lock()
	defer a.host.mu.Unlock()
	for _, e := range a.host.environments {
		if e.Customer != customer {
			continue
		}
		one := map[string]string{"name": e.User, "kind": e.Kind, "url": strings.TrimSuffix(e.URL, "/"),
			"at": "sftp://" + e.User + "@" + a.host.sshAt + "/"}
		for _, other := range a.host.environments {
			if e.Kind != "live" && other.Customer == customer && other.Kind == "live" {
				one["of"] = other.User
			}
		}
		all = append(all, one)
	}
	slices.SortFunc(all, func(a, b map[string]string) int { return strings.Compare(a["name"], b["name"]) })
	answer(w, http.StatusOK, map[string]any{"environments": all})
}

// credentials lends a password of an environment.
func (a *accounts) credentials(w http.ResponseWriter, r *http.Request) {
	customer, ok := a.who(w, r)
	if !ok {
		return
	}
	e := a.host.environment(r.PathValue("name"))
	if e.User == "" || e.Customer != customer {
		answer(w, http.StatusNotFound, map[string]string{"error": "unknown_environment"})
		return
	}
	password, until := rand.Text(), time.Now().Add(credentialsLast)
	a.mu.Lock()
	defer a.mu.Unlock()
	a.passwords[e.User] = append(slices.DeleteFunc(a.passwords[e.User], func(l lent) bool { return time.Now().After(l.until) }),
		lent{password, until})
	said := map[string]any{"password": password, "expires_in": int(credentialsLast.Seconds())}
	if a.host.signer != nil {
		said["host_key"] = ssh.FingerprintSHA256(a.host.signer.PublicKey())
	}
	answer(w, http.StatusOK, said)
}

// isLent tells whether a password was lent for an environment, and is good still.
func (a *accounts) isLent(user, password string) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return slices.ContainsFunc(a.passwords[user], func(l lent) bool {
		return time.Now().Before(l.until) && subtle.ConstantTimeCompare([]byte(l.value), []byte(password)) == 1
	})
}

// EndLent has no lent password be good any more.
func (h *Host) EndLent() {
	h.page.mu.Lock()
	defer h.page.mu.Unlock()
	h.page.passwords = map[string][]lent{}
}
