package api

import (
	"context"
	"encoding/json"
	"net/http"
	"reflect"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
)

// TablePath names a table of a site.
type TablePath struct {
	SitePath
	Table string `path:"table"`
}

// ndjson is what answers line by line.
var ndjson = map[string]*huma.MediaType{"application/x-ndjson": {Schema: &huma.Schema{Type: "string"}}}

// databaseRoutes are a site's own database, as its own user.
func (a *API) databaseRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/sites/{name}/database", "get-database", "The site's database and its tables",
		func(ctx context.Context, in *struct {
			SitePath
			Secrets bool `query:"secrets" doc:"With password and address for other programs"`
			Columns bool `query:"columns" doc:"With the names of all columns"`
		}) (*body[wire.DatabasePage], error) {
			page, err := a.Database.Page(ctx, in.Name, in.Secrets, in.Columns)
			return &body[wire.DatabasePage]{page}, asProblem(err)
		})
	register(api, "GET", "/sites/{name}/database/find", "find-text", "In which columns of which tables a text stands",
		func(ctx context.Context, in *struct {
			SitePath
			Text string `query:"text" required:"true"`
		}) (*body[[]wire.FoundText], error) {
			found, err := a.Database.Find(ctx, in.Name, in.Text)
			return &body[[]wire.FoundText]{found}, asProblem(err)
		})
	register(api, "POST", "/sites/{name}/database/replace", "replace-text", "Put one text in the place of another, everywhere",
		func(ctx context.Context, in *struct {
			SitePath
			Body wire.AskReplace
		}) (*body[wire.Replaced], error) {
			replaced, err := a.Database.Replace(ctx, in.Name, in.Body)
			return &body[wire.Replaced]{replaced}, asProblem(err)
		})
	register(api, "GET", "/sites/{name}/database/tables/{table}", "get-table", "How a table is made up",
		func(ctx context.Context, in *TablePath) (*body[wire.TableStructure], error) {
			structure, err := a.Database.Structure(ctx, in.Name, in.Table)
			return &body[wire.TableStructure]{structure}, asProblem(err)
		})
	a.rowRoutes(api)
	a.csvRoutes(api, router)
	asked := api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[wire.AskQuery](), true, "")
	declare(api, "POST", "/sites/{name}/database/query", "query-database", "Ask the database statements; a line of JSON (QueryLine) for all",
		&huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/json": {Schema: asked}}}, ndjson)
	details[wire.QueryLine](api)
	router.POST("/api/v1/sites/:name/database/query", a.query)
}

// rowRoutes are the rows of a table.
func (a *API) rowRoutes(api huma.API) {
	const rows = "/sites/{name}/database/tables/{table}/rows"
	register(api, "POST", rows+"/page", "list-rows", "A page of a table", func(ctx context.Context, in *struct {
		TablePath
		Body wire.AskRows
	}) (*body[wire.TableRows], error) {
		page, err := a.Database.Rows(ctx, in.Name, in.Table, in.Body)
		return &body[wire.TableRows]{page}, asProblem(err)
	})
	register(api, "POST", rows+"/read", "read-row", "One row, whole", func(ctx context.Context, in *struct {
		TablePath
		Body wire.TableRow
	}) (*body[[]wire.DatabaseValue], error) {
		values, err := a.Database.Row(ctx, in.Name, in.Table, in.Body.Key)
		return &body[[]wire.DatabaseValue]{values}, asProblem(err)
	})
	register(api, "POST", rows, "add-row", "Add a row", func(ctx context.Context, in *struct {
		TablePath
		Body wire.NewRow
	}) (*struct{}, error) {
		return nil, asProblem(a.Database.AddRow(ctx, in.Name, in.Table, in.Body))
	})
	register(api, "PATCH", rows, "change-row", "Change one row, if it is what it is expected to be", func(ctx context.Context, in *struct {
		TablePath
		Body wire.ChangeRow
	}) (*struct{}, error) {
		return nil, asProblem(a.Database.ChangeRow(ctx, in.Name, in.Table, in.Body))
	})
	register(api, "POST", rows+"/drop", "drop-row", "Remove one row", func(ctx context.Context, in *struct {
		TablePath
		Body wire.TableRow
	}) (*struct{}, error) {
		return nil, asProblem(a.Database.DropRow(ctx, in.Name, in.Table, in.Body.Key))
	})
}

// csvRoutes bring tables out as files and files in.
func (a *API) csvRoutes(api huma.API, router *echo.Echo) {
	const path = "/sites/{name}/database/tables/{table}/csv"
	file := map[string]*huma.MediaType{"text/csv": {Schema: &huma.Schema{Type: "string"}}}
	declare(api, "GET", path, "get-csv", "A table as CSV (RFC 4180); \\N stands for NULL", nil, file)
	router.GET("/api/v1/sites/:name/database/tables/:table/csv", func(c echo.Context) error {
		c.Response().Header().Set("Content-Type", "text/csv; charset=utf-8")
		err := a.Database.WriteCSV(c.Request().Context(), c.Param("name"), c.Param("table"), c.Response())
		if err != nil && c.Response().Committed {
			panic(http.ErrAbortHandler) // what was sent already is not to be taken for the whole
		}
		if err != nil {
			writeProblem(c.Response(), asProblem(err))
		}
		return nil
	})
	answer := map[string]*huma.MediaType{"application/json": {Schema: api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[wire.Affected](),
		true, "")}}
	declare(api, "POST", path, "add-csv", "Add a CSV file's records; its first line names columns", &huma.RequestBody{Required: true,
		Content: file}, answer)
	router.POST("/api/v1/sites/:name/database/tables/:table/csv", func(c echo.Context) error {
		added, err := a.Database.ReadCSV(c.Request().Context(), c.Param("name"), c.Param("table"), c.Request().Body)
		if err != nil {
			writeProblem(c.Response(), asProblem(err))
			return nil
		}
		return c.JSON(http.StatusOK, added)
	})
}

// longestQuery is how much SQL may be asked at once, in bytes.
const longestQuery = 20 << 20

// query answers line by line, as the database does.
func (a *API) query(c echo.Context) error {
	var asked wire.AskQuery
	from := json.NewDecoder(http.MaxBytesReader(c.Response(), c.Request().Body, longestQuery))
	from.DisallowUnknownFields()
	if err := from.Decode(&asked); err != nil {
		writeProblem(c.Response(), problem(http.StatusBadRequest, "the body is no query: "+err.Error()))
		return nil
	}
	sent, tell := 0, lines(c)
	err := a.Database.Query(c.Request().Context(), c.Param("name"), asked, func(line wire.QueryLine) error {
		sent++
		return tell(line, line.Row == nil || sent < 100) // what comes first is shown at once
	})
	if err != nil && !c.Response().Committed {
		writeProblem(c.Response(), asProblem(err))
	}
	return nil
}

// lines answers a line of JSON after the other, some of which are to be seen at once.
func lines(c echo.Context) func(line any, atOnce bool) error {
	out := json.NewEncoder(c.Response())
	return func(line any, atOnce bool) error {
		if !c.Response().Committed {
			c.Response().Header().Set("Content-Type", "application/x-ndjson")
			c.Response().WriteHeader(http.StatusOK)
		}
		err := out.Encode(line)
		if err == nil && atOnce {
			c.Response().Flush()
		}
		return err
	}
}
