// Package api is what the service answers over HTTP: the API under /api/v1
// with its OpenAPI document, live changes, health and metrics, and the
// console.
//
//	handler := api.New(api.Deps{Store: store, Bags: bags, Queue: queue, …})
//
// Every refusal is an RFC 9457 problem. Docs: docs/api.md.
package api
