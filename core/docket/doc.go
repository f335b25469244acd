// Package docket puts a case together as a person reads it, top to bottom:
// what was tried, where it broke, why, what to do. It is a pure function of
// the facts, the logs and the knowledge.
//
//	d, err := docket.Draw(ctx, facts, sources, k, nil)
package docket
