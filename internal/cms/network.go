package cms

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"

	"vessik/internal/core/site"
	"vessik/internal/engine"
)

// MakeNetwork turns a site that was just filled into a network of sites; facts must name the kind of network.
func (k *Definition) MakeNetwork(ctx context.Context, php *engine.Engine, s site.Site, facts Facts) error {
	script := func(arguments ...string) error {
		out, err := k.Run(ctx, Script{PHP: php, Folder: s.Folder, Root: s.DocumentRoot(), Settings: s.Settings, Port: facts.Port,
			Names:     []string{k.Network.Script},
			Arguments: append([]string{s.DocumentRoot(), facts.URL}, arguments...)})
		if err != nil || !bytes.Contains(out, []byte(k.Network.Answer)) {
			return fmt.Errorf("make the network: %w", said(err, out))
		}
		return nil
	}
	if err := script("tables", facts.Network); err != nil {
		return err
	}
	if err := k.Configure(facts); err != nil {
		return err
	}
	for _, f := range k.Network.Files {
		if err := k.layFileWith(s.Folder, f, facts); err != nil {
			return err
		}
	}
	if len(s.SubSites) == 0 {
		return nil
	}
	return script(append([]string{"sites", facts.Network}, s.SubSites...)...)
}

// SubSites lists the addresses of a network's sub-sites, without their scheme.
func (k *Definition) SubSites(ctx context.Context, pool *sql.DB, facts Facts) (addresses []string, err error) {
	statement, err := k.write(k.Network.Sites, facts)
	if err != nil {
		return nil, err
	}
	rows, err := pool.QueryContext(ctx, statement)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var address string
		if err := rows.Scan(&address); err != nil {
			return nil, err
		}
		addresses = append(addresses, address)
	}
	return addresses, rows.Err()
}
