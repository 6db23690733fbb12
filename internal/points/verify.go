package points

import (
	"context"
	"errors"

	"vessik/internal/blobs"
	"vessik/internal/core/site"
	"vessik/internal/ownfile"
)

// Damage is what of a point is not what it was.
type Damage struct {
	ID    string
	Files []string // below the site's folder; database.sql is the database, and none means all of it
}

// Verify reads all blobs of a site's points, and tells the points that are damaged. What is damaged is taken away: the next point that has
// the same content makes it whole again, also in those before it.
func (p *Points) Verify(ctx context.Context, s site.Site) (damages []Damage, points, read int, err error) {
	all, err := p.List(s)
	if err != nil {
		return nil, 0, 0, err
	}
	known := map[string]bool{} // by sum, whether it is good
	for _, point := range all {
		kept, err := p.manifest(s.Name, point.ID)
		switch {
		case errors.Is(err, errOld):
			continue
		case err != nil:
			damages = append(damages, Damage{ID: point.ID})
			continue
		}
		damage := Damage{ID: point.ID}
		for _, each := range append([]file{{Path: dumped, Refs: kept.Database}}, kept.Files...) {
			if ctx.Err() != nil {
				return nil, 0, 0, ctx.Err()
			}
			good, err := p.good(s.Name, each.Refs, known)
			if err != nil {
				return nil, 0, 0, err
			}
			if !good {
				damage.Files = append(damage.Files, each.Path)
			}
		}
		if len(damage.Files) > 0 && ownfile.Size(p.dir(s.Name, point.ID, manifestName)) > 0 { // and it was not dropped meanwhile
			damages = append(damages, damage)
		}
	}
	return damages, len(all), len(known), nil
}

// good tells whether one file's blobs are; whoever takes a point waits for no more than that.
func (p *Points) good(name string, refs []blobs.Ref, known map[string]bool) (bool, error) {
	defer p.lock(name)()
	all := true
	for _, ref := range refs {
		good, seen := known[ref.Sum]
		if !seen {
			err := p.store(name).Check(ref)
			var damaged *blobs.Damaged
			if err != nil && !errors.As(err, &damaged) {
				return false, err
			}
			good = err == nil
			known[ref.Sum] = good
		}
		all = all && good
	}
	return all, nil
}
