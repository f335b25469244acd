// Package fleet decides what many machines have in common: which failures are the same, whether
// one is suddenly common, what its machines share that healthy ones do not have, which healthy
// machine is most like a failing one, how a repair goes round, and what outcomes teach. It is
// pure: the same input gives the same answer, in whatever order it came.
//
//	f, failed := fleet.FingerprintOf(docket, family)
//	key := f.Key()                                    // cases with one key are one cohort
//	w, raised := watch.Saw(fleet.Seen{Failed: true})  // a sequential test
//	shared := fleet.Common(counts, 0.05)              // odds, corrected for how many were tried
package fleet
