package engines

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/ownfile"
	"vessik/internal/running"
)

// try starts an engine by itself, in a folder that is removed again.
func (f *Feature) try(ctx context.Context, e *engine.Engine) error {
	dir, err := os.MkdirTemp(f.Machine.Home.Path("run"), "try-")
	if err != nil {
		return err
	}
	defer ownfile.RemoveAll(dir)
	place := func(name string) string { return filepath.Join(dir, name) }
	switch e.Kind {
	case engine.PHP:
		s := site.Site{Name: "trial", Folder: dir, Probe: running.RandomHex(8)}
		master, err := engine.OpenPHP(f.Machine.Supervisor, f.Machine.Bell, e,
			s, engine.PHPPlace{Dir: place("php"), Temp: place("temp"), Logs: place("logs"), Mail: place("mail"),
				Socket: filepath.Join(place("s"), "s"), Probe: f.Machine.ProbeFile()}, func(error) {})
		if err != nil {
			return err
		}
		defer master.Stop()
		return master.Wake(ctx)
	case engine.Web:
		return f.tryWeb(ctx, e, dir)
	case engine.Database:
		d, err := engine.StartDatabase(ctx, f.Machine.Supervisor, e, engine.DatabasePlace{Data: place("data"), Run: place("run"),
			Log: place("log"), Password: cms.Password(), BufferMB: 16})
		if err != nil {
			return err
		}
		d.Stop()
	case engine.Release, engine.Language: // nothing of them runs
	}
	return nil
}

// tryWeb has a web server serve a page from a folder.
func (f *Feature) tryWeb(ctx context.Context, e *engine.Engine, dir string) error {
	place := func(name string) string { return filepath.Join(dir, name) }
	port := site.FreePort(f.Facts.Now())
	s := site.Site{Name: "trial", Folder: dir, Domain: "trial.localhost", Port: port}
	s.Stack.Web = e.ID
	web, err := engine.NewWebServer(f.Machine.Supervisor, f.Machine.Bell, e, place("web"))
	if err != nil {
		return err
	}
	defer web.Stop()
	if err := ownfile.Write(place("index.html"), []byte("it serves"), 0o644); err != nil {
		return err
	}
	host := f.Machine.VirtualHost(s)
	host.Logs = place("logs")
	if err := ownfile.Make(host.Logs, 0o700); err != nil {
		return err
	}
	host.Text = strings.ReplaceAll(host.Text, f.Machine.Home.SiteLogs(s.Name), host.Logs)
	host.PHP = ""
	if broken := web.Apply(ctx, map[string]*engine.VirtualHost{s.Name: &host}, false); broken[s.Name] != nil {
		return broken[s.Name]
	}
	request, err := http.NewRequestWithContext(ctx, "GET", fmt.Sprintf("http://127.0.0.1:%d/index.html", port), nil)
	if err != nil {
		return err
	}
	request.Host = s.Domain
	client := http.Client{Timeout: time.Minute}
	defer client.CloseIdleConnections()
	response, err := client.Do(request)
	if err != nil {
		return err
	}
	response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return fmt.Errorf("it answers %s", response.Status)
	}
	return nil
}
