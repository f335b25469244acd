package system

import (
	"context"
	"io/fs"
	"time"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/firmware"
	"diorthos/core/layout"
	"diorthos/core/media"
	"diorthos/core/store"
	"diorthos/core/volumes"
)

// An Adapter knows one family of operating systems. All that it is asked for, it
// finds by content, never by a number or a letter.
type Adapter interface {
	// Family is what facts call this kind of system.
	Family() string
	// Find tells which system lies on a volume.
	Find(fs.FS) (bag.System, bool)
	// Mounts tells where that system mounts what, by UUID=, LABEL= or PARTUUID=.
	Mounts(fs.FS) map[string]string
	// HoldsLoader tells the volume from which the firmware starts the system.
	HoldsLoader(fs.FS) bool
	// Logs lists the logs of that system on a volume.
	Logs(fs.FS) []string
	// Catalogues lists the message catalogues by which those logs can be
	// understood, when they are not in English.
	Catalogues(fs.FS) []string
	// LogName is a log's name in a bag.
	LogName(string) string
	// Inventory lists what the system has installed; nil when it is not one.
	Inventory(fs.FS) *bag.Installed
	// RestartReasons lists why the system has to be restarted; kernel is the
	// running one, empty when none does.
	RestartReasons(fsys fs.FS, kernel string) []bag.RestartReason
	// Survey adds to the facts how the parts of a system stand.
	Survey(Ground, *bag.Facts)
	// Open opens the system on one volume of a disk to be changed. It
	// returns ErrOnlyRead when the family's systems cannot be.
	Open(dev block.Device, volume int, o Options) (System, error)
	// Lacks says of each ability that the family's systems do not have, why.
	Lacks() map[Ability]string
}

// Options say what an adapter cannot see on the disk.
type Options struct {
	Mode firmware.Mode // of the machine's firmware; empty when not known
	Now  time.Time
	Keys *volumes.Keys // for what is encrypted
	// Enter enters a system so that its own tools can be run; nil where that cannot be done.
	Enter Enter
}

// A FirmwareHolder is an adapter whose machines keep the state of their firmware
// on a device of its own.
type FirmwareHolder interface {
	firmware.Keeper
	// LoaderPath is what a boot entry has to name, in a mode.
	LoaderPath(firmware.Mode) string
}

// A Traced adapter knows which files and folders an attempt of its systems leaves changed, other than logs in which
// other things are written all the time.
type Traced interface{ Traces(fs.FS) []string }

// A Supplier is an adapter that can take components from elsewhere: an install
// medium, a healthy twin's system volume, the vendor's service.
type Supplier interface {
	// Medium opens an install medium; ok is false when it is none of the
	// family's.
	Medium(name string, raw []byte) (s store.Source, ok bool, err error)
	// DescribeMedium says what an install medium of the family is; ok is false
	// when it is none.
	DescribeMedium(name string, raw []byte) (m *media.Medium, ok bool, err error)
	// Twin opens the system volume of a healthy machine.
	Twin(name string, volume fs.FS) (store.Source, error)
	// Service is the vendor's, at an address.
	Service(address string, build int) store.Source
}

// A Verifier is an adapter that can hold a system against what its packages say, wherever the
// files lie: on an image, in a folder, or on the running machine.
type Verifier interface {
	// VerifyPayloads holds every file of every package against its checksum.
	VerifyPayloads(
		ctx context.Context, root fs.FS, workers int, progress func(done, of int),
	) (*store.Verification, error)
	// StateFlaws are what is wrong with the system's own records, and what the package system
	// works with; mended says which of them can be put right by an action.
	StateFlaws(root fs.FS, now time.Time) (flaws []bag.StateFault, mended int)
}

// A PeopleKnower is an adapter that can tell by which names the people are known who have an account on a system, so
// that they can be replaced in evidence.
type PeopleKnower interface {
	People(fs.FS) []string
}

// A Ground is a machine's disk as an adapter looks at it.
type Ground struct {
	Disk       block.Source
	Table      *layout.Table
	Volumes    *volumes.Set
	Contents   map[int]layout.Content // by the number of the volume
	Volume     func(int) fs.FS        // what a system on it sees; nil for what cannot be read
	Views      map[int]*View          // of those that can be read
	System     int                    // number of the volume that holds the system
	Firmware   []byte                 // the state of the firmware as it is held, where it is
	ChainAlone bool                   // no more is asked than by what the machine starts
	// Beside opens a file beside the disk, such as an install medium.
	Beside func(name string) ([]byte, error)
}

// HoldsEFI reports whether a volume holds programs for UEFI firmware: a folder EFI with an
// EFI program somewhere in it.
func HoldsEFI(volume fs.FS) bool {
	for _, pattern := range []string{"EFI/*/*.efi", "EFI/*/*.EFI", "efi/*/*.efi"} {
		if names, _ := fs.Glob(volume, pattern); len(names) > 0 { // the patterns are right
			return true
		}
	}
	return false
}
