// Package ladder chooses the repairs that fit a case, orders them from the
// least invasive up, and climbs them: each rung with a guard before it, a
// journal under it and a proof after it.
//
//	rungs := ladder.Build(findings, facts, k)
//	run, err := ladder.Take(ctx, rungs[0], dev, options)
//
// Remedies are data in knowledge/remedies/; what they can do is the small set
// of typed actions in action.go.
package ladder
