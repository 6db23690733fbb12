package verify

import (
	"vessik/internal/core/check"
	"vessik/internal/core/site"
)

// Checks that others speak of in their remedies.
const (
	webAnswers      = "web-answers"
	databaseVersion = "database-version"
)

// What groups of checks prove.
const (
	address       = "Address"
	administrator = "Administrator"
	stack         = "Stack"
	database      = "Database"
	folder        = "Folder"
)

// Checks are all that is verified of a site, in the order of the report strip; each may use what those before it have learned.
var Checks = []Check{
	{Definition: check.Definition{ID: webAnswers, Title: "Own port answers", Group: address}, ask: (*inspection).webAnswers},
	{Definition: check.Definition{ID: "domain-routes", Title: "Domain routes", Group: address}, ask: (*inspection).domainRoutes},
	{Definition: check.Definition{ID: "front-page", Title: "Front page", Group: address}, ask: (*inspection).frontPage},
	{Definition: check.Definition{ID: "assets", Title: "Style sheet loads", Group: address}, ask: (*inspection).assets},
	{Definition: check.Definition{ID: "https", Title: "https without a warning", Group: address}, ask: (*inspection).https,
		of: func(s site.Site) bool { return s.HTTPS }},
	{Definition: check.Definition{ID: "sign-in", Title: "Administrator signs in", Group: administrator}, ask: (*inspection).signIn},
	{Definition: check.Definition{ID: "php-version", Title: "PHP version", Group: stack}, ask: func(i *inspection) outcome {
		return i.version("PHP", i.site.Stack.PHP, i.probe.PHP)
	}},
	{Definition: check.Definition{ID: "web-version", Title: "Web server version", Group: stack}, ask: func(i *inspection) outcome {
		return i.version("the web server", i.site.Stack.Web, i.server)
	}},
	{Definition: check.Definition{ID: databaseVersion, Title: "Database version", Group: stack}, ask: func(i *inspection) outcome {
		return i.version("the database server", i.site.Stack.Database, i.probe.Database)
	}},
	{Definition: check.Definition{ID: "database-private", Title: "Database is private", Group: database}, ask: (*inspection).databasePrivate},
	{Definition: check.Definition{ID: "files-private", Title: "Files are private", Group: folder}, ask: (*inspection).filesPrivate},
	{Definition: check.Definition{ID: "mail-caught", Title: "Mail is caught", Group: folder}, ask: (*inspection).mailCaught},
}
