package lifecycle

import (
	"time"

	"vessik/internal/core/site"
)

// installerLook is how often sites are looked at whose own installer has not run.
const installerLook = 2 * time.Second

// AwaitInstallers has a site verified again once its CMS's own installer has filled its database, until the service ends.
func (f *Feature) AwaitInstallers() {
	look := time.NewTicker(installerLook)
	defer look.Stop()
	before := map[string]int{} // tables at the last look: an installer has done its work when no more are added
	for {
		select {
		case <-f.Machine.Work.Context().Done():
			return
		case <-look.C:
		}
		now := map[string]int{}
		for _, name := range f.Verifier.Awaiting() {
			s, ok := f.Machine.Registry.Site(name)
			if !ok {
				f.Verifier.Await(name, false)
			}
			if s.State != site.Running {
				continue
			}
			now[name] = f.Verifier.Tables(f.Machine.Work.Context(), s)
			if now[name] > 0 && now[name] == before[name] {
				f.Verifier.Await(name, false)
				f.VerifyAgain(name)
			}
		}
		before = now
	}
}
