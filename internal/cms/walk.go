package cms

import (
	"context"
	"database/sql"
)

// mostPaths is how many paths one query for them gives.
const mostPaths = 5000

// Paths are those of all that is published, below the site's base address; none where the definition does not say.
func (k *Definition) Paths(ctx context.Context, pool *sql.DB, facts Facts) ([]string, error) {
	paths := []string{}
	for _, query := range k.Walk {
		statement, err := k.write(query, facts)
		if err != nil {
			return nil, err
		}
		rows, err := pool.QueryContext(ctx, statement)
		if err != nil {
			return nil, err
		}
		for rows.Next() && len(paths) < mostPaths {
			path := ""
			if err := rows.Scan(&path); err != nil {
				rows.Close()
				return nil, err
			}
			paths = append(paths, path)
		}
		if err := rows.Close(); err != nil {
			return nil, err
		}
	}
	return paths, nil
}
