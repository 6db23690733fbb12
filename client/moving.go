package client

import (
	"context"
	"io"
	"net/url"

	"vessik/internal/core/wire"
)

// What the API says of hosting accounts.
type (
	Account         = wire.Account
	AddAccount      = wire.AddAccount
	HostChecks      = wire.HostChecks
	Fetch           = wire.Fetch
	Fetched         = wire.Fetched
	Pull            = wire.Pull
	Push            = wire.Push
	Pushed          = wire.Pushed
	HostSignIn      = wire.HostSignIn
	AccountPictures = wire.AccountPictures
	HostEnvironment = wire.HostEnvironment
	PullReplaces    = wire.PullReplaces
)

func accountPath(name, more string) string { return "/accounts/" + url.PathEscape(name) + more }

// Accounts are all hosting accounts.
func (c *Client) Accounts(ctx context.Context) (all []Account, err error) {
	return all, c.call(ctx, "GET", "/accounts", nil, &all)
}

// AddAccount adds a hosting account; nothing is asked of the host.
func (c *Client) AddAccount(ctx context.Context, asked AddAccount) (a Account, err error) {
	return a, c.call(ctx, "POST", "/accounts", asked, &a)
}

// DropAccount forgets a hosting account, and what was fetched of it.
func (c *Client) DropAccount(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", accountPath(name, ""), nil, nil)
}

// UnpinAccount forgets which key the host showed.
func (c *Client) UnpinAccount(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", accountPath(name, "/host-key"), nil, nil)
}

// CheckAccount looks at a hosting account.
func (c *Client) CheckAccount(ctx context.Context, name string) (h HostChecks, err error) {
	return h, c.call(ctx, "POST", accountPath(name, "/check"), nil, &h)
}

// FetchAccount brings here what differs of the site at a hosting account; the operation goes on after it returns.
func (c *Client) FetchAccount(ctx context.Context, name string, asked Fetch) (o Operation, err error) {
	return o, c.call(ctx, "POST", accountPath(name, "/fetch"), asked, &o)
}

// PullAccount makes what was fetched of an account a site, or puts it in the place of one; the operation goes on after it returns.
func (c *Client) PullAccount(ctx context.Context, name string, asked Pull) (o Operation, err error) {
	return o, c.call(ctx, "POST", accountPath(name, "/pull"), asked, &o)
}

// PushAccount brings to a hosting account what was changed of a site; the operation goes on after it returns.
func (c *Client) PushAccount(ctx context.Context, name string, asked Push) (o Operation, err error) {
	return o, c.call(ctx, "POST", accountPath(name, "/push"), asked, &o)
}

// PushBack takes the last push to a hosting account back, where overwrite is said also what was changed there since; the operation goes on
// after it returns.
func (c *Client) PushBack(ctx context.Context, name string, overwrite bool) (o Operation, err error) {
	return o, c.call(ctx, "POST", accountPath(name, "/push/back"), wire.PushBack{Overwrite: overwrite}, &o)
}

// PushedBy is what an operation pushes; nil where it did not get so far.
func PushedBy(watched Watched) *Pushed {
	said := wire.DetailsOf[struct {
		Result *Pushed `json:"result"`
	}](watched.Operation)
	return said.Result
}

// FetchedBy is what an operation found and carried; nil where it did not get so far.
func FetchedBy(watched Watched) *Fetched {
	said := wire.DetailsOf[struct {
		Result *Fetched `json:"result"`
	}](watched.Operation)
	return said.Result
}

// SignInAtHost begins to sign in at a host's page, whose address is given.
func (c *Client) SignInAtHost(ctx context.Context, page string) (s HostSignIn, err error) {
	return s, c.call(ctx, "POST", "/hosts/sign-ins", wire.AskHostSignIn{Page: page}, &s)
}

// HostSignInOf tells whether Vessik was let in at a host's page.
func (c *Client) HostSignInOf(ctx context.Context, id string) (s HostSignIn, err error) {
	return s, c.call(ctx, "GET", "/hosts/sign-ins/"+url.PathEscape(id), nil, &s)
}

// SignInAccountAgain gives an account what a new sign-in at its host's page brought.
func (c *Client) SignInAccountAgain(ctx context.Context, name, id string) error {
	return c.call(ctx, "POST", accountPath(name, "/sign-in"), wire.SignInAgain{ID: id}, nil)
}

// PicturesOfAccount has pictures of the live site and of the site here be taken and compared.
func (c *Client) PicturesOfAccount(ctx context.Context, name string) (p AccountPictures, err error) {
	return p, c.call(ctx, "POST", accountPath(name, "/pictures"), nil, &p)
}

// AccountPicture writes one of the pictures that were taken last, here or there, as JPEG.
func (c *Client) AccountPicture(ctx context.Context, name, which string, to io.Writer) error {
	response, err := c.send(ctx, "GET", accountPath(name, "/pictures/"+url.PathEscape(which)), nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.Copy(to, response.Body)
	return err
}
