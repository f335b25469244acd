// Package debian holds logs of real failures of real Debian systems. The
// scripts in failures/ provoke them anew in a throw-away root.
package debian

import "embed"

// Captured holds one folder a failure.
//
//go:embed captured
var Captured embed.FS
