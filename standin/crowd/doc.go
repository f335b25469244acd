// Package crowd is a fleet of agents whose machines are not there: each speaks to a service as the agent of a real
// machine does, with a key of its own and an outbox, and hands in what such a machine would after a failed attempt.
//
//	c := &crowd.Crowd{URL: url, Token: token, Folder: dir, Machines: 1000, Day: 10 * time.Minute, Failing: 0.01}
//	err := c.Run(ctx)
package crowd
