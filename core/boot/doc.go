// Package boot follows the chain by which a machine starts, from the firmware
// to the services, and finds the first link that is broken.
//
//	chain := boot.Follow(boot.Ground{Mode: "uefi", Table: table, Entries: entries, System: system, …})
//	if b := chain.Broken(); b != nil { … b.Saw … }
//
// How the firmware finds a loader is specified in the UEFI Specification,
// section "Boot Manager"; for the older firmware it is the code in sector 0,
// the active partition and the code in that partition's boot sector. What comes
// behind the loader is the system's own affair, and asked of its [System].
package boot
