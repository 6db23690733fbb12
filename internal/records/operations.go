package records

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"vessik/internal/core/check"
	"vessik/internal/core/plan"
)

// SaveStep writes how far a step is.
func (r *Records) SaveStep(ctx context.Context, operation, name string, position int, e plan.Entry) error {
	err := r.set(ctx, "UPDATE steps SET state=?, note=?, milliseconds=? WHERE operation=? AND site=? AND position=?", e.State, e.Note,
		e.Milliseconds, operation, name, position)
	return wrap(err, "record a step of "+name)
}

// SavePart writes how an operation ended for one site.
func (r *Records) SavePart(ctx context.Context, operation string, part OperationSite) error {
	err := r.set(ctx, "UPDATE operation_sites SET state=?, problem=? WHERE operation=? AND site=?", part.State, part.Problem, operation,
		part.Site)
	return wrap(err, "record the operation for "+part.Site)
}

// Finish writes that an operation is over.
func (r *Records) Finish(ctx context.Context, o Operation) error {
	err := r.set(ctx, "UPDATE operations SET state=?, finished_at=? WHERE id=?", o.State, o.FinishedAt, o.ID)
	return wrap(err, "record the end of operation "+o.ID)
}

// Operations returns the newest operations first; limit 0 returns all.
func (r *Records) Operations(ctx context.Context, limit int) ([]Operation, error) {
	if limit == 0 {
		limit = 1 << 30
	}
	return r.operations(ctx, "1=1 ORDER BY id DESC LIMIT ?", limit)
}

// Unfinished returns the operations that were being carried out, oldest first.
func (r *Records) Unfinished(ctx context.Context) ([]Operation, error) {
	return r.operations(ctx, "state=? ORDER BY id", OperationRunning)
}

// Operation returns one, with its steps and reports.
func (r *Records) Operation(ctx context.Context, id string) (Operation, error) {
	found, err := r.operations(ctx, "id=?", id)
	if err == nil && len(found) == 0 {
		err = fmt.Errorf("operation %s: %w", id, ErrNotFound)
	}
	if err != nil {
		return Operation{}, err
	}
	return found[0], nil
}

func (r *Records) operations(ctx context.Context, condition string, argument any) ([]Operation, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT id, kind, state, created_at, finished_at, document FROM operations WHERE "+condition, argument)
	found, err := collect(rows, err, "read the operations", func(scan func(...any) error) (o Operation, err error) {
		err = scan(&o.ID, &o.Kind, &o.State, &o.CreatedAt, &o.FinishedAt, (*[]byte)(&o.Payload))
		return o, err
	})
	if err != nil || len(found) == 0 {
		return found, err
	}
	index := map[string]*Operation{}
	ids := []any{}
	for i := range found {
		index[found[i].ID], ids = &found[i], append(ids, found[i].ID)
	}
	marks := strings.TrimSuffix(strings.Repeat("?,", len(ids)), ",")
	type row struct {
		operation string
		part      OperationSite
		entry     plan.Entry
		report    []byte
	}
	rows, err = r.db.QueryContext(ctx, "SELECT p.operation, p.site, p.state, p.problem FROM operation_sites p WHERE p.operation IN ("+marks+
		") ORDER BY p.operation, p.position", ids...)
	parts, err := collect(rows, err, "read the operations", func(scan func(...any) error) (p row, err error) {
		err = scan(&p.operation, &p.part.Site, &p.part.State, &p.part.Problem)
		return p, err
	})
	if err != nil {
		return nil, err
	}
	for _, p := range parts {
		index[p.operation].Sites = append(index[p.operation].Sites, p.part)
	}
	rows, err = r.db.QueryContext(ctx, "SELECT operation, part, document FROM reports WHERE operation IN ("+marks+") ORDER BY id", ids...)
	reports, err := collect(rows, err, "read the reports", func(scan func(...any) error) (p row, err error) {
		err = scan(&p.operation, &p.part.Site, &p.report)
		return p, err
	})
	if err != nil {
		return nil, err
	}
	for _, p := range reports {
		var report check.SiteReport
		if err := json.Unmarshal(p.report, &report); err != nil {
			return nil, err
		}
		sites := index[p.operation].Sites
		for i := range sites {
			if sites[i].Site == p.part.Site {
				sites[i].Add(report)
			}
		}
	}
	rows, err = r.db.QueryContext(ctx, "SELECT operation, site, step, state, note, milliseconds FROM steps WHERE operation IN ("+marks+
		") ORDER BY operation, site, position", ids...)
	steps, err := collect(rows, err, "read the steps", func(scan func(...any) error) (p row, err error) {
		err = scan(&p.operation, &p.part.Site, &p.entry.Step, &p.entry.State, &p.entry.Note, &p.entry.Milliseconds)
		return p, err
	})
	for _, p := range steps {
		sites := index[p.operation].Sites
		for i := range sites {
			if sites[i].Site == p.part.Site {
				sites[i].Steps = append(sites[i].Steps, p.entry)
			}
		}
	}
	return found, err
}
