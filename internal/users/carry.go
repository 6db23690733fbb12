package users

import (
	"context"
	"crypto/md5"
	"encoding/base64"
	"encoding/hex"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"vessik/internal/core/site"
)

// carryTimeout bounds how long a site is asked who was signed in.
const carryTimeout = 20 * time.Second

// CarryOver draws a ticket for whoever a request shows to be signed in at the address that the site has over the other scheme: a CMS that
// writes its address into the names of its cookies knows nobody at another one. The cookie that showed it is good no more; empty for none.
func (f *Feature) CarryOver(r *http.Request, s site.Site) (address, cookie string) {
	if len(r.Header["Cookie"]) == 0 {
		return "", ""
	}
	named := f.Machine.CMS.Of(s).Ticket.Session
	if named == "" {
		return "", ""
	}
	other := s
	other.HTTPS = !s.HTTPS
	name := func(of site.Site) string {
		sum := md5.Sum([]byte(f.Machine.URL(of)))
		return strings.ReplaceAll(named, "{md5 of URL}", hex.EncodeToString(sum[:]))
	}
	shown, err := r.Cookie(name(other))
	if err != nil {
		return "", ""
	}
	if _, err := r.Cookie(name(s)); err == nil {
		return "", ""
	}
	if user := f.signedIn(r.Context(), s, shown, f.Machine.URL(other)); user != "" {
		address, _ = f.draw(s, user)
	}
	return address, shown.Name
}

// signedIn asks a site's own PHP whom a cookie of its former address stands for, and ends that session; empty for nobody.
func (f *Feature) signedIn(ctx context.Context, s site.Site, cookie *http.Cookie, former string) string {
	ctx, cancel := context.WithTimeout(ctx, carryTimeout)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://127.0.0.1:"+strconv.Itoa(s.Port)+"/index.php", nil)
	if err != nil {
		return ""
	}
	request.Host = s.Host(f.Machine.Gateway())
	request.Close = true
	request.AddCookie(cookie)
	for name, value := range map[string]string{"Probe": s.Probe, "Ticket": "", "Former": base64.StdEncoding.EncodeToString([]byte(former))} {
		request.Header.Set("X-Vessik-"+name, value)
	}
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	response, err := client.Do(request)
	if err != nil {
		return ""
	}
	defer response.Body.Close()
	io.Copy(io.Discard, io.LimitReader(response.Body, 1<<20))
	user, err := base64.StdEncoding.DecodeString(response.Header.Get("X-Vessik-User"))
	if err != nil {
		return ""
	}
	return string(user)
}
