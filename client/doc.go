// Package client speaks the API of a Diorthos service and holds its types.
//
//	c := client.New("http://127.0.0.1:7420", token)
//	accepted, err := c.Submit(ctx, bag, size)
//	err = c.Watch(ctx, accepted.Number, func(cs client.Case) bool { … })
//
// A refusal by the service is a *Problem (RFC 9457).
package client
