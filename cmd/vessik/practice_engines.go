package main

import (
	"context"
	"errors"
	"maps"
	"os"
	"path/filepath"
	"strings"

	"vessik/client"
)

// ofEngines is what the practice host's sites run on, and may take, where that is told.
type ofEngines struct {
	php         string
	directives  map[string]string
	latin1Names bool
}

// directiveOf are the php.ini directives that stand for faults.
var directiveOf = map[string][]string{"time": {"max_execution_time"}, "memory": {"memory_limit"}, "upload": {"upload_max_filesize",
	"post_max_size"}}

// read takes a fault that is of the engines, and tells whether it is one.
func (o *ofEngines) read(name, value string) bool {
	switch {
	case name == "names" && value == "latin1":
		o.latin1Names = true
	case name == "php" && value != "":
		o.php = value
	case directiveOf[name] != nil && value != "":
		for _, directive := range directiveOf[name] {
			o.directives[directive] = value
		}
	default:
		return false
	}
	return true
}

// set has a site of the host's be as it is told, and as it was where nothing is.
func (o *ofEngines) set(ctx context.Context, c *call, api *client.Client, s client.Site) error {
	if o.php != "" && !strings.HasPrefix(s.Stack.PHP.Engine, "php-"+strings.TrimPrefix(o.php, "php-")) {
		operation, err := api.Restack(ctx, s.Name, client.Restack{PHP: o.php})
		if err := c.followed(ctx, api, operation, err); err != nil {
			return err
		}
	}
	now, err := api.Settings(ctx, s.Name)
	if err != nil {
		return err
	}
	wanted := now.Settings
	if wanted.PHP = maps.Clone(now.Settings.PHP); wanted.PHP == nil {
		wanted.PHP = map[string]string{}
	}
	for _, names := range directiveOf {
		for _, name := range names {
			if delete(wanted.PHP, name); o.directives[name] != "" {
				wanted.PHP[name] = o.directives[name]
			}
		}
	}
	if !wanted.Equal(now.Settings) {
		operation, err := api.Adjust(ctx, s.Name, wanted, true)
		if err := c.followed(ctx, api, operation, err); err != nil {
			return err
		}
	}
	return o.layNames(s)
}

// followed waits for an operation to end well.
func (c *call) followed(ctx context.Context, api *client.Client, operation client.Operation, err error) error {
	if err != nil {
		return err
	}
	watched, err := c.follow(ctx, api, operation)
	if err != nil {
		return err
	}
	return outcome(watched)
}

// layNames lays a file whose name is in ISO 8859-1, as old hosts have some; or takes it away.
func (o *ofEngines) layNames(s client.Site) error {
	file := filepath.Join(s.Folder, "caf\xe9.txt")
	if !o.latin1Names {
		if err := os.Remove(file); !errors.Is(err, os.ErrNotExist) {
			return err
		}
		return nil
	}
	return os.WriteFile(file, []byte("its name is of another age\n"), 0o644)
}
