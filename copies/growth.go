package copies

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"

	"vessik/client"
	"vessik/internal/core/wire"
)

// bound measures one copy after the other, and ends the one that grew most of an account whose copies take more than twice its room: guests
// and a site's own code write what they like.
func (r *Room) bound(ctx context.Context) error {
	standing := slices.DeleteFunc(r.of(""), func(k kept) bool { return k.State != wire.CopyStands && k.State != wire.CopyFailed })
	maps.DeleteFunc(r.takes, func(id string, _ int64) bool {
		return !slices.ContainsFunc(standing, func(k kept) bool { return k.id() == id })
	})
	if len(standing) == 0 {
		return nil
	}
	sites, err := r.Service.Sites(ctx, false)
	if err != nil {
		return err
	}
	r.turn++
	k := standing[r.turn%len(standing)]
	i := slices.IndexFunc(sites, func(s client.Site) bool { return s.Name == k.local() })
	if i < 0 {
		return nil
	}
	bytes, failed := r.Takes(sites[i])
	if errors.Is(failed, fs.ErrPermission) { // what it wrote is kept from being looked at
		return errors.Join(failed, r.end(ctx, k, "what was written at the relay cannot be measured; end it before you send it again"))
	}
	r.takes[k.id()] = bytes
	all := int64(0)
	for _, other := range standing {
		if other.Account == k.Account {
			all += r.takes[other.id()]
			if r.takes[other.id()]-other.Bytes > r.takes[k.id()]-k.Bytes {
				k = other
			}
		}
	}
	if all <= 2*r.Limits.Bytes {
		return failed // of the machine itself, for which no copy is ended
	}
	r.Log.Warn("a copy grew beyond its account's room", "account", k.Account, "site", k.Site, "bytes", r.takes[k.id()])
	return r.end(ctx, k, fmt.Sprintf("with what was written at the relay it took %d MB, and an account's copies may take %d MB in all; "+
		"end it before you send it again", r.takes[k.id()]>>20, 2*r.Limits.Bytes>>20))
}
