// Package service runs Diorthos as a service: it takes bags, reads cases in
// the background, keeps the records and serves API and console.
//
//	err := service.Run(ctx, service.Config{Listen: "127.0.0.1:7420", Database: dsn, Bags: "bags"})
//
// It stops when ctx ends, and loses nothing that it acknowledged.
package service
