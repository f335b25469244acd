package upkeep

import (
	"io/fs"

	"diorthos/core/block"
	"diorthos/core/boot"
	"diorthos/core/layout"
)

// A Ground is a machine's disk as an adapter looks at it.
type Ground struct {
	Disk     block.Source
	Table    *layout.Table
	Contents map[int]layout.Content // by the number of the partition
	Volume   func(int) fs.FS        // nil for what cannot be read
	System   int                    // number of the partition that holds the system
	Plate    []byte                 // the nameplate, where there is one
	// Beside opens a file beside the disk, such as an install medium.
	Beside func(name string) ([]byte, error)
}

// A Plate is what can be changed of a machine beside its disk: firmware
// variables, clock, network.
type Plate struct {
	Mark      string
	Mode      string // of the firmware: uefi or bios
	Order     []string
	Entries   []boot.Entry
	Clock     int64 // seconds that it is ahead of the true time
	NetworkUp bool
	TimeSync  bool // the network sets the clock
}

// A SettingChange gives a value to a name in a branch of the settings; an
// empty value takes the name out.
type SettingChange struct{ Branch, Name, Value string }
