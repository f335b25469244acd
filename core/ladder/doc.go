// Package ladder chooses the repairs that fit a case and orders them from the
// least invasive up.
//
//	rungs := ladder.Build(findings, facts, timeline, k)
//	fmt.Println(rungs[0].Title, rungs[0].Invasive, rungs[0].Why)
//
// Remedies are data in knowledge/remedies/; what they can do is the set of typed
// actions in package action. Package climb takes the rungs.
package ladder
