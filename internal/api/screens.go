package api

import (
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	core "vessik/internal/core/screens"
	"vessik/internal/screens"
)

// screensRoutes are pictures of pages.
func (a *API) screensRoutes(api huma.API, router *echo.Echo) {
	parameter := func(name, in, doc string) *huma.Param {
		return &huma.Param{Name: name, In: in, Required: true, Description: doc, Schema: &huma.Schema{Type: "string"}}
	}
	api.OpenAPI().AddOperation(&huma.Operation{Method: "GET", Path: "/api/v1/sites/{name}/screen.png", OperationID: "get-screen",
		Summary:   "A picture of a whole page in a window of a size",
		Responses: map[string]*huma.Response{"200": {Description: "A picture", Content: map[string]*huma.MediaType{"image/png": {}}}},
		Parameters: []*huma.Param{parameter("name", "path", ""), parameter("path", "query", "Path and query of the page"),
			parameter("size", "query", "phone, tablet, laptop, wide, or such as 390x844"),
			parameter("dark", "query", "true for somebody who prefers dark pages")}})
	router.GET("/api/v1/sites/:name/screen.png", func(c echo.Context) error {
		sizes, err := core.Parse(c.QueryParam("size"))
		if err != nil || len(sizes) != 1 {
			writeProblem(c.Response(), problem(http.StatusUnprocessableEntity, "size: say one, such as phone or 390x844"))
			return nil
		}
		picture, err := a.Screens.Take(c.Request().Context(), c.Param("name"), screens.Asked{Path: c.QueryParam("path"), Size: sizes[0],
			Dark: c.QueryParam("dark") == "true"})
		if err != nil {
			writeProblem(c.Response(), asProblem(err))
			return nil
		}
		c.Response().Header().Set("Cache-Control", "no-store")
		return c.Blob(http.StatusOK, "image/png", picture)
	})
}
