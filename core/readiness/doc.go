// Package readiness judges whether a machine is fit for a release at all:
// hardware, space, firmware, support windows, clock, network, what is attached
// and whether a restart is still owed.
//
//	report := readiness.Judge(readiness.Question{Facts: facts, Release: release, Now: now})
//	for _, v := range report.Verdicts { fmt.Println(v.Title, v.Verdict, v.Measured) }
//
// What was not measured is said to be unknown, with how to measure it; it is
// never taken for fit.
package readiness
