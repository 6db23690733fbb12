package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/authority"
	"vessik/internal/core/wire"
)

// authorityRoutes are the home's own certificate authority.
func (a *API) authorityRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/authority", "get-authority", "The home's own certificate authority, for programs that are to believe it",
		func(context.Context, *empty) (*body[wire.Authority], error) {
			root, err := a.Machine.Authority.Root()
			if err != nil {
				return nil, asProblem(err)
			}
			return &body[wire.Authority]{wire.Authority{Name: root.Subject.CommonName, SHA256: authority.Fingerprint(root),
				Endings: root.PermittedDNSDomains, NotAfter: root.NotAfter, Certificate: string(authority.PEM(root))}}, nil
		})
}
