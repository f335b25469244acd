// Package platform is the registry of the families of systems that Diorthos
// knows. A new one is a package beside this file, and one line here.
//
//	for _, a := range platform.All() { fmt.Println(a.Family()) }
package platform

import (
	"diorthos/core/system"
	"diorthos/platform/corbel"
	"diorthos/platform/debian"
)

// All lists the adapters, in the order in which they are asked.
func All() []system.Adapter {
	return []system.Adapter{corbel.Adapter{}, debian.Adapter{}}
}
