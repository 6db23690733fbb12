package api

import (
	"cmp"
	"context"
	"maps"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/check"
	"vessik/internal/core/outgoing"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/verify"
)

// sitesRoutes are what is asked of sites, and done with those that exist.
func (a *API) sitesRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/sites", "list-sites", "All sites", func(_ context.Context, in *struct {
		Secrets bool `query:"secrets" doc:"With passwords"`
		Trials  bool `query:"trials" doc:"With the temporary copies of trials that are going on"`
	}) (*body[[]wire.Site], error) {
		visible := slices.DeleteFunc(a.Machine.Registry.All(), func(s site.Site) bool { return s.TrialOf != "" && !in.Trials })
		return &body[[]wire.Site]{a.sites(visible, in.Secrets)}, nil
	})
	register(api, "GET", "/sites/{name}", "get-site", "One site", func(ctx context.Context, in *struct {
		Name    string `path:"name" doc:"The site's name"`
		Secrets bool   `query:"secrets" doc:"With passwords"`
	}) (*body[wire.Site], error) {
		s, ok := a.Machine.Registry.Site(in.Name)
		if !ok {
			return nil, noSuchSite(in.Name)
		}
		if s.Network != "" && s.State == site.Running { // whoever looks after it adds sub-sites in its CMS
			if _, err := a.Machine.LearnSubSites(ctx, s); err == nil {
				s, _ = a.Machine.Registry.Site(in.Name)
			}
		}
		return &body[wire.Site]{a.sites([]site.Site{s}, in.Secrets)[0]}, nil
	})
	for _, kind := range []plan.Kind{plan.Start, plan.Stop, plan.Verify, plan.Retire} {
		summary := map[plan.Kind]string{plan.Start: "Start sites", plan.Stop: "Stop sites", plan.Verify: "Verify sites",
			plan.Retire: "Retire sites: remove all that belongs to them"}[kind]
		register(api, "POST", "/sites/"+string(kind), string(kind)+"-sites", summary,
			func(ctx context.Context, in *body[wire.Names]) (*body[wire.Operation], error) {
				names := in.Body.Names
				if in.Body.All {
					names = nil
					for _, s := range a.Machine.Registry.All() {
						if s.TrialOf == "" {
							names = append(names, s.Name)
						}
					}
				} else if len(names) == 0 {
					return nil, asProblem(site.Problems{{Field: "names", Message: "no site is named", Remedy: "name sites, or ask for all"}})
				}
				operation, err := a.Lifecycle.Do(ctx, kind, names, in.Body.KeepFiles)
				return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
			}, accepted)
	}
	register(api, "GET", "/checks", "list-checks", "What is verified of a site, in the order of the report strip",
		func(context.Context, *empty) (*body[[]check.Definition], error) {
			return &body[[]check.Definition]{verify.Definitions()}, nil
		})
	register(api, "GET", "/reports", "latest-report", "The newest report of every site",
		func(ctx context.Context, _ *empty) (*body[check.Report], error) {
			reports, err := a.Records.LatestReports(ctx)
			sites := []check.SiteReport{}
			for _, s := range a.Machine.Registry.All() {
				if report, ok := reports[s.Name]; ok {
					sites = append(sites, report)
				}
			}
			return &body[check.Report]{check.Together(sites)}, asProblem(err)
		})
}

// sites shows sites, with their passwords only if asked for.
func (a *API) sites(sites []site.Site, secrets bool) []wire.Site {
	versions := map[string]string{}
	for _, e := range a.Machine.Store.List() {
		versions[e.ID] = e.Version
	}
	part := func(id string) wire.StackEngine { return wire.StackEngine{Engine: id, Version: versions[id]} }
	shown := make([]wire.Site, len(sites))
	for i, s := range sites {
		shown[i] = wire.Site{Name: s.Name, Title: s.Title, State: s.State, Reason: s.Reason, Notice: s.Notice,
			URL: s.URL(a.Machine.Gateway()), Domain: s.Domain, Folder: s.Folder, DocumentRoot: s.DocumentRoot(), Prefix: a.Machine.Prefix(s),
			CMS:   wire.TitledCMS{Name: s.CMS.Name, Version: s.CMS.Version, Title: s.CMS.Name},
			Stack: wire.FullStack{PHP: part(s.Stack.PHP), Web: part(s.Stack.Web), Database: part(s.Stack.Database)}, Port: s.Port,
			Resting: a.Machine.Resting(s.Name), PHPErrors: a.PHPErrors.Places(s), TrialOf: s.TrialOf,
			Group: s.Group, Note: s.Note, Pinned: s.Pinned, Origin: s.Origin,
			Language: s.Language, TimeZone: s.TimeZone, Outgoing: cmp.Or(s.Settings.Outgoing, outgoing.Web),
			Reach: s.Settings.Reach, Refuse: s.Settings.Refuse, SearchEngines: s.Visible, Touches: s.Touches,
			PHPIni:  ownDirectives(s),
			Domains: s.Domains, Forwards: s.Forwards, HTTPS: s.HTTPS, Network: s.Network, Plugins: s.Plugins, Themes: s.Themes,
			Database: wire.Database{Host: "127.0.0.1", Port: a.Machine.DatabasePort(s.Stack.Database), Name: s.Database.Name,
				User: s.Database.User},
			Administrator: site.Administrator{Name: s.Administrator.Name, Mail: s.Administrator.Mail}, CreatedAt: s.CreatedAt}
		if name := site.Shown(s.Name); name != s.Name {
			shown[i].NameUnicode = name
		}
		if k := a.Machine.CMS.Definitions()[s.CMS.Name]; k != nil {
			shown[i].CMS.Title = k.Title
			if k.SignIn.Address != "" {
				shown[i].SignIn = shown[i].URL + k.SignIn.Address
			}
		}
		if read := site.Unicode(s.Domain); read != s.Domain {
			shown[i].DomainUnicode = read
		}
		for _, sub := range s.SubSites {
			shown[i].SubSites = append(shown[i].SubSites, s.SubURL(sub, a.Machine.Gateway()))
		}
		if secrets {
			shown[i].Database.Password, shown[i].Administrator.Password = s.Database.Password, s.Administrator.Password
		}
	}
	return shown
}

// ownDirectives are the php.ini settings of a site's own; its time zone is told as such.
func ownDirectives(s site.Site) map[string]string {
	own := maps.Clone(s.Settings.PHP)
	if own[site.TimeZoneDirective] == s.TimeZone {
		delete(own, site.TimeZoneDirective)
	}
	return own
}
