// Package lifecycle is the state machine of a case: which events there are, and
// what state each leads to. It knows no database.
//
//	next, err := lifecycle.Next(client.Open, lifecycle.ClimbBegins)
package lifecycle
