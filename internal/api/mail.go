package api

import (
	"context"
	"io"
	"mime"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
	"vessik/internal/records"
)

// mailRoutes are the mail that sites sent.
func (a *API) mailRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/mail", "list-mail", "Mail that sites sent and that was caught, the newest first",
		func(ctx context.Context, in *struct {
			Site   string `query:"site" doc:"Of one site; of all where empty"`
			Search string `query:"search" doc:"In sender, recipients and subject"`
			After  int64  `query:"after" doc:"Newer than this id"`
			Limit  int    `query:"limit" default:"200" minimum:"1" maximum:"1000"`
			Wait   int    `query:"wait" maximum:"60" minimum:"0" doc:"So many seconds, for the first that is newer"`
		}) (*body[[]wire.Mail], error) {
			asked := records.MailsAsked{Site: in.Site, Search: in.Search, After: in.After, Limit: in.Limit}
			mails, err := a.Mail.List(ctx, asked, time.Duration(in.Wait)*time.Second)
			return &body[[]wire.Mail]{mails}, asProblem(err)
		})
	type one struct {
		ID int64 `path:"id"`
	}
	register(api, "GET", "/mail/{id}", "read-mail", "One message, read", func(ctx context.Context, in *one) (*body[wire.MailPage], error) {
		listed, read, err := a.Mail.Read(ctx, in.ID)
		return &body[wire.MailPage]{wire.MailPage{Mail: listed, Message: read, Page: read.Page()}}, asProblem(err)
	})
	register(api, "DELETE", "/mail/{id}", "drop-mail", "Remove one message", func(ctx context.Context, in *one) (*struct{}, error) {
		return nil, asProblem(a.Mail.Drop(ctx, in.ID))
	})
	register(api, "DELETE", "/sites/{name}/mail", "drop-mail-of", "Remove all messages of a site",
		func(ctx context.Context, in *SitePath) (*body[wire.Dropped], error) {
			count, err := a.Mail.DropAll(ctx, in.Name)
			return &body[wire.Dropped]{wire.Dropped{Count: count}}, asProblem(err)
		})
	a.mailOutRoutes(api)
	source := map[string]*huma.MediaType{"message/rfc822": {Schema: &huma.Schema{Type: "string"}}}
	declare(api, "GET", "/mail/{id}/source", "mail-source", "A message as it was sent (RFC 5322)", nil, source)
	router.GET("/api/v1/mail/:id/source", a.mailSource)
	declare(api, "GET", "/mail/{id}/page", "mail-page", "A message's HTML, which may load from elsewhere what it will, and run nothing", nil,
		map[string]*huma.MediaType{"text/html": {Schema: &huma.Schema{Type: "string"}}})
	router.GET("/api/v1/mail/:id/page", a.mailPage)
	declare(api, "GET", "/mail/{id}/attachments/{number}", "mail-attachment", "An attachment, by its place", nil,
		map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}}})
	router.GET("/api/v1/mail/:id/attachments/:number", a.mailAttachment)
}

// mailOutRoutes let mail programs in, and hand single messages on.
func (a *API) mailOutRoutes(api huma.API) {
	register(api, "POST", "/sites/{name}/mail-access", "mail-access", "How a mail program opens the site's mailbox; opens the port for IMAP",
		func(_ context.Context, in *SitePath) (*body[wire.MailAccess], error) {
			access, err := a.Mail.Access(in.Name)
			return &body[wire.MailAccess]{access}, asProblem(err)
		})
	register(api, "POST", "/mail/{id}/hand-on", "hand-mail-on", "Send one message on to a real address, by the user's own mail server",
		func(ctx context.Context, in *struct {
			ID   int64 `path:"id"`
			Body wire.HandOn
		}) (*body[wire.HandedOn], error) {
			told, err := a.Mail.HandOn(ctx, in.ID, in.Body.To, in.Body.Preview)
			return &body[wire.HandedOn]{told}, asProblem(err)
		})
	register(api, "GET", "/mail-server", "get-mail-server", "The user's own mail server, without its password",
		func(context.Context, *empty) (*body[wire.MailServer], error) {
			s, err := a.Mail.Server()
			return &body[wire.MailServer]{s.MailServer}, asProblem(err)
		})
	register(api, "PUT", "/mail-server", "set-mail-server", "Set it; it is asked whether it lets the user in",
		func(ctx context.Context, in *body[wire.SetMailServer]) (*struct{}, error) {
			return nil, asProblem(a.Mail.SetServer(ctx, in.Body))
		})
	register(api, "DELETE", "/mail-server", "drop-mail-server", "Forget it", func(context.Context, *empty) (*struct{}, error) {
		return nil, asProblem(a.Mail.DropServer())
	})
}

// mailSource answers with a message to be saved: it is never shown as what it claims to be.
func (a *API) mailSource(c echo.Context) error {
	id, _ := strconv.ParseInt(c.Param("id"), 10, 64)
	source, err := a.Mail.Source(c.Request().Context(), id)
	if err != nil {
		writeProblem(c.Response(), asProblem(err))
		return nil
	}
	defer source.Close()
	saved(c, "message/rfc822", "message-"+c.Param("id")+".eml")
	_, err = io.Copy(c.Response(), source)
	return err
}

// remotePolicy lets a message be seen as a mail program shows it that was told to load what it names: in an origin of its own, without
// scripts and forms.
const remotePolicy = "sandbox allow-popups allow-popups-to-escape-sandbox; default-src 'none'; img-src * data:; media-src *; font-src *; " +
	"style-src * 'unsafe-inline'; frame-ancestors 'none'"

func (a *API) mailPage(c echo.Context) error {
	id, _ := strconv.ParseInt(c.Param("id"), 10, 64)
	_, read, err := a.Mail.Read(c.Request().Context(), id)
	if err != nil {
		writeProblem(c.Response(), asProblem(err))
		return nil
	}
	header := c.Response().Header()
	header.Set("Content-Security-Policy", remotePolicy)
	header.Set("Referrer-Policy", "no-referrer")
	return c.HTML(http.StatusOK, `<!doctype html><base target="_blank">`+read.Page())
}

func (a *API) mailAttachment(c echo.Context) error {
	id, _ := strconv.ParseInt(c.Param("id"), 10, 64)
	_, read, err := a.Mail.Read(c.Request().Context(), id)
	number, wrong := strconv.Atoi(c.Param("number"))
	switch {
	case err != nil:
		writeProblem(c.Response(), asProblem(err))
		return nil
	case wrong != nil || number < 1 || number > len(read.Attachments):
		writeProblem(c.Response(), problem(http.StatusNotFound, "the message has no such attachment"))
		return nil
	}
	part := read.Attachments[number-1]
	saved(c, "application/octet-stream", part.Name)
	_, err = c.Response().Write(part.Content)
	return err
}

// saved has a browser save what is answered, under a name.
func saved(c echo.Context, kind, name string) {
	header := c.Response().Header()
	header.Set("Content-Type", kind)
	header.Set("X-Content-Type-Options", "nosniff")
	header.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name}))
	c.Response().WriteHeader(http.StatusOK)
}
