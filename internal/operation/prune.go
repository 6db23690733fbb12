package operation

import "time"

// pruneLook is how often what was done long ago is forgotten.
const pruneLook = time.Hour

// Prune forgets operations that ended long ago, at once and then each hour, until the service ends. kept says for how long they are kept
// and how many of them.
func (r *Runner) Prune(kept func() (age time.Duration, most int)) {
	look := time.NewTicker(pruneLook)
	defer look.Stop()
	for now := time.Now(); ; {
		age, most := kept()
		pruned, err := r.records.Prune(r.work.Context(), now.Add(-age), most)
		if err != nil && !r.work.Ending() {
			r.log.Error("forget what was done long ago", "reason", err)
		} else if pruned > 0 {
			r.log.Info("forgot what was done long ago", "operations", pruned)
		}
		select {
		case <-r.work.Context().Done():
			return
		case now = <-look.C:
		}
	}
}
