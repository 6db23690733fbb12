//go:build !failpoints

package operation

import "vessik/internal/core/plan"

// point is a place at which a build for tests can be told to fail, to be cancelled or to be killed; see failpoint.go.
func (o *Operation) point(string, plan.Step, string) error { return nil }

func (r *Runner) listKinds() {}
