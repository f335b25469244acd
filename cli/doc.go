// Package cli holds the commands. Local ones need no service and no network;
// the others speak to a service through the client.
//
//	os.Exit(cli.Run(ctx, os.Args, os.Stdin, os.Stdout, os.Stderr))
//
// Exit status: 0 fine, 1 found something wrong, 2 could not do it.
package cli
