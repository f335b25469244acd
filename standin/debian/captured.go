// Package debian holds logs of real failures of real Debian systems. The
// scripts beside this file provoke them anew in a throw-away root.
package debian

import "embed"

// Captured holds one folder a failure.
//
//go:embed captured
var Captured embed.FS

// Fresh holds one archive a failure: those that were described before any rule was
// made for them, and, named later-, those drawn after all rules.
//
//go:embed fresh
var Fresh embed.FS
