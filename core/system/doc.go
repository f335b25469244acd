// Package system is the contract between the core and whoever knows one family
// of operating systems: how its systems are found by content, read, and changed.
//
//	for _, a := range adapters {
//		if sys, ok := a.Find(volume); ok { … }
//	}
//	opened, err := system.OpenAll(adapters, draft, system.Options{Mode: firmware.UEFI, Now: now})
//	keeper, ok := opened[0].System.(system.Services)
//
// A new family is one package that implements Adapter, and one line in the
// registry (package platform). What can be done to a system shows in the
// abilities that it has; docs/own-system.md lists them.
package system
