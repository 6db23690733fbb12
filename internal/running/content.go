package running

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"vessik/internal/cms"
	"vessik/internal/core/dump"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/ownfile"
)

// CMSFacts are what a CMS's templates may use of a site.
func (m *Machine) CMSFacts(s site.Site) cms.Facts {
	return cms.Facts{Visible: s.Visible, Language: s.Language, TimeZone: s.TimeZone, Network: s.Network, Site: s, Title: s.Title,
		URL: strings.TrimSuffix(s.URL(m.Gateway()), "/"), Domain: s.Domain, Prefix: cmp.Or(s.Prefix, m.CMS.Of(s).Database.Prefix),
		Database: s.Database, Host: "127.0.0.1", Port: m.DatabasePort(s.Stack.Database), Administrator: s.Administrator}
}

// Prefix begins the names of a site's tables.
func (m *Machine) Prefix(s site.Site) string { return cmp.Or(s.Prefix, m.CMS.Of(s).Database.Prefix) }

// DumpInto writes a dump of a site's database, as it is at one moment.
func (m *Machine) DumpInto(ctx context.Context, s site.Site, to io.Writer) error {
	database, err := m.Database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	pool := database.OpenAs(s.Database)
	defer pool.Close()
	return cms.Dump(ctx, pool, to)
}

// DumpTo writes a dump of a site's database into one of the service's own files.
func (m *Machine) DumpTo(ctx context.Context, s site.Site, path string) error {
	file, err := ownfile.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	return errors.Join(m.DumpInto(ctx, s, file), file.Close())
}

// EmptyDatabase leaves nothing in a site's database.
func (m *Machine) EmptyDatabase(ctx context.Context, s site.Site) error {
	database, err := m.Database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	return database.EmptyDatabase(ctx, s.Database.Name)
}

// Aside does something with a site whose database is a scratch one on the same server, which is dropped afterwards.
func (m *Machine) Aside(ctx context.Context, s site.Site, do func(site.Site) error) error {
	database, err := m.Database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	name := "vessik_" + RandomHex(4)
	s.Database = site.Database{Name: name, User: name, Password: cms.Password()}
	if err := database.CreateDatabase(ctx, name, name, s.Database.Password); err != nil {
		return err
	}
	defer database.DropDatabase(context.WithoutCancel(ctx), name, name)
	return do(s)
}

// DumpWithoutSecrets dumps a copy of a site's database that was freed of what is secret.
func (m *Machine) DumpWithoutSecrets(ctx context.Context, s site.Site, file io.Writer) error {
	from, release, err := m.Pool(ctx, s)
	if err != nil {
		return err
	}
	defer release()
	return m.Aside(ctx, s, func(scratch site.Site) error {
		to, release, err := m.Pool(ctx, scratch)
		if err != nil {
			return err
		}
		defer release()
		reader, writer := io.Pipe()
		go func() { writer.CloseWithError(cms.Dump(ctx, from, writer)) }()
		err = cms.Load(ctx, to, reader, new(dump.Judge))
		reader.CloseWithError(err)
		if err != nil {
			return err
		}
		if err := m.CMS.Of(s).Empty(ctx, to, m.CMSFacts(s)); err != nil {
			return err
		}
		return cms.Dump(ctx, to, file)
	})
}

// spare is what stays free on a disk, for the records and the databases that share it, in bytes.
const spare = 200 << 20

// Room says whether a disk holds so many bytes more.
func Room(place string, bytes int64) error {
	free, err := engine.FreeBytes(place)
	if err == nil && free < uint64(bytes)+spare {
		return fmt.Errorf("the disk of %s has %d MB left, and %d MB are needed; make room on it, then try again", place, free>>20,
			(bytes+spare)>>20)
	}
	return nil
}

// RandomHex is a secret of so many bytes.
func RandomHex(bytes int) string {
	raw := make([]byte, bytes)
	rand.Read(raw)
	return hex.EncodeToString(raw)
}

// subSitesTimeout bounds how long a network is asked for its sub-sites.
const subSitesTimeout = 10 * time.Second

// LearnSubSites reads from a network which sub-sites it has by now, and keeps that. addresses are theirs, without a scheme.
func (m *Machine) LearnSubSites(ctx context.Context, s site.Site) (addresses []string, err error) {
	ctx, cancel := context.WithTimeout(ctx, subSitesTimeout) // whoever is in the site may lock its tables
	defer cancel()
	pool, release, err := m.Pool(ctx, s)
	if err != nil {
		return nil, err
	}
	defer release()
	if addresses, err = m.CMS.Of(s).SubSites(ctx, pool, m.CMSFacts(s)); err != nil {
		return nil, err
	}
	var names []string
	for _, address := range addresses {
		if name := s.SubName(address); name != "" && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return addresses, m.Registry.Edit(ctx, s.Name, func(s *site.Site) error {
		s.SubSites = names
		return nil
	})
}
