package layout

// A Role is what a system uses a partition for.
type Role string

// The roles.
const (
	RoleSystem Role = "system" // holds the system itself
	RoleBoot   Role = "boot"   // holds the loader, or kernels
	RoleESP    Role = "esp"    // the EFI system partition
	RoleData   Role = "data"   // anything else
)

// Roles lists those that there are.
func Roles() []Role { return []Role{RoleSystem, RoleBoot, RoleESP, RoleData} }

// A CopyState is how one of the two copies of a GPT stands.
type CopyState string

// The states of a copy.
const (
	CopySound   CopyState = "sound"
	CopyDamaged CopyState = "damaged"
	CopyAbsent  CopyState = "absent" // and none is wanted there
)

// CopyStates lists those that there are.
func CopyStates() []CopyState { return []CopyState{CopySound, CopyDamaged, CopyAbsent} }
