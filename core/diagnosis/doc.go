// Package diagnosis ranks what can be wrong: from a timeline, facts and
// knowledge to findings, each with its probability, the evidence for it and
// the evidence against it. It is a pure function: the same input gives the
// same findings.
//
//	findings, err := diagnosis.Rank(timeline, facts, k)
//
// How the probability is computed stands in docs/knowledge.md, section
// "Ranking".
package diagnosis
