package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"vessik/internal/core/wire"
)

// ErrNoRemark says that a site has no such remark.
var ErrNoRemark = errors.New("there is no such remark")

// AddRemark records a remark of a site, with a drawing as PNG or none, unless the site has so many; it returns its id.
func (r *Records) AddRemark(ctx context.Context, remark wire.Remark, drawing []byte, most int) (id int64, err error) {
	document, err := json.Marshal(remark)
	if err != nil {
		return 0, err
	}
	result, err := r.db.ExecContext(ctx, "INSERT INTO remarks (site, document, drawing) SELECT ?,?,? FROM DUAL WHERE "+
		"(SELECT COUNT(*) FROM remarks WHERE site=?) < ?", remark.Site, document, drawing, remark.Site, most)
	if err != nil {
		return 0, wrap(err, "record a remark")
	}
	if rows, err := result.RowsAffected(); err != nil || rows == 0 {
		return 0, errors.Join(errors.New("the site has too many remarks"), err)
	}
	id, err = result.LastInsertId()
	return id, err
}

// Remarks are a site's, the oldest first.
func (r *Records) Remarks(ctx context.Context, name string) ([]wire.Remark, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT id, site, document, drawing IS NOT NULL FROM remarks WHERE site=? ORDER BY id", name)
	return collect(rows, err, "read the remarks on "+name, func(scan func(...any) error) (remark wire.Remark, err error) {
		var id int64
		var site string
		var document []byte
		var drawn bool
		if err := scan(&id, &site, &document, &drawn); err != nil {
			return remark, err
		}
		err = json.Unmarshal(document, &remark)
		remark.ID, remark.Site, remark.Drawn = id, site, drawn
		return remark, err
	})
}

// EditRemark changes a remark of a site.
func (r *Records) EditRemark(ctx context.Context, name string, id int64, edit func(*wire.Remark) error) (remark wire.Remark, err error) {
	err = r.inOne(ctx, func(tx *sql.Tx) error {
		var document []byte
		row := tx.QueryRowContext(ctx, "SELECT document FROM remarks WHERE id=? AND site=? FOR UPDATE", id, name)
		if err := row.Scan(&document); errors.Is(err, sql.ErrNoRows) {
			return ErrNoRemark
		} else if err != nil {
			return err
		}
		if err := json.Unmarshal(document, &remark); err != nil {
			return err
		}
		remark.ID, remark.Site = id, name
		if err := edit(&remark); err != nil {
			return err
		}
		if document, err = json.Marshal(remark); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE remarks SET document=? WHERE id=?", document, id)
		return err
	})
	return remark, wrap(err, "change a remark on "+name)
}

// Drawing is the drawing of a remark, as PNG.
func (r *Records) Drawing(ctx context.Context, name string, id int64) (drawing []byte, err error) {
	err = r.db.QueryRowContext(ctx, "SELECT drawing FROM remarks WHERE id=? AND site=? AND drawing IS NOT NULL", id, name).Scan(&drawing)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNoRemark
	}
	return drawing, err
}

// DropRemark removes a remark.
func (r *Records) DropRemark(ctx context.Context, name string, id int64) error {
	result, err := r.db.ExecContext(ctx, "DELETE FROM remarks WHERE id=? AND site=?", id, name)
	if err != nil {
		return wrap(err, "remove a remark")
	}
	if rows, err := result.RowsAffected(); err != nil || rows == 0 {
		return errors.Join(ErrNoRemark, err)
	}
	return nil
}
