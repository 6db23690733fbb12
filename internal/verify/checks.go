package verify

import "vessik/internal/core/check"

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
	{check.Definition{ID: webAnswers, Title: "Own port answers", Group: address}, (*inspection).webAnswers},
	{check.Definition{ID: "domain-routes", Title: "Domain routes", Group: address}, (*inspection).domainRoutes},
	{check.Definition{ID: "front-page", Title: "Front page", Group: address}, (*inspection).frontPage},
	{check.Definition{ID: "assets", Title: "Style sheet loads", Group: address}, (*inspection).assets},
	{check.Definition{ID: "sign-in", Title: "Administrator signs in", Group: administrator}, (*inspection).signIn},
	{check.Definition{ID: "php-version", Title: "PHP version", Group: stack}, func(i *inspection) outcome {
		return i.version("PHP", i.site.Stack.PHP, i.probe.PHP)
	}},
	{check.Definition{ID: "web-version", Title: "Web server version", Group: stack}, func(i *inspection) outcome {
		return i.version("the web server", i.site.Stack.Web, i.server)
	}},
	{check.Definition{ID: databaseVersion, Title: "Database version", Group: stack}, func(i *inspection) outcome {
		return i.version("the database server", i.site.Stack.Database, i.probe.Database)
	}},
	{check.Definition{ID: "database-private", Title: "Database is private", Group: database}, (*inspection).databasePrivate},
	{check.Definition{ID: "files-private", Title: "Files are private", Group: folder}, (*inspection).filesPrivate},
}
