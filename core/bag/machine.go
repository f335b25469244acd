package bag

import (
	"time"

	"diorthos/core/firmware"
)

// Hardware is what the machine is made of. A zero means that it was not
// measured.
type Hardware struct {
	Architecture string   `json:"architecture,omitempty"` // as the system names it: amd64, arm64, …
	Processor    string   `json:"processor,omitempty"`
	Processors   int      `json:"processors,omitempty"` // logical ones
	Flags        []string `json:"flags,omitempty"`      // what the processor can do, as the kernel names it
	Memory       int64    `json:"memory,omitempty"`     // bytes the system can use
	Width        int      `json:"width,omitempty"`      // of the largest display mode, in pixels
	Height       int      `json:"height,omitempty"`
}

// Firmware is what starts the machine.
type Firmware struct {
	Mode       firmware.Mode `json:"mode"`                 // the one the system was started in
	SecureBoot string        `json:"secureBoot,omitempty"` // on or off; empty when not known
}

// A Clock is how far the machine's time can be trusted.
type Clock struct {
	Synchronised bool   `json:"synchronised"`        // by the system's own word
	HardwareOff  int64  `json:"hardwareOff"`         // seconds that the hardware clock is ahead of the system's
	Uptime       int64  `json:"uptime,omitempty"`    // seconds since the start
	ReferenceOff int64  `json:"referenceOff"`        // seconds that the system's clock is ahead of a reference
	Referenced   bool   `json:"referenced"`          // whether there was a reference
	Reference    string `json:"reference,omitempty"` // which one
}

// A Network is what the machine could reach when it was looked at.
type Network struct {
	Links   []Link `json:"links"`
	Route   bool   `json:"route"`   // a default route is there
	Metered string `json:"metered"` // yes, no or unknown
}

// A Link is one network interface other than loopback.
type Link struct {
	Name  string `json:"name"`
	State string `json:"state"` // up, down, unknown
}

// A Volume is a mounted file system. Sizes are in bytes; inode counts are 0
// where the file system has none.
type Volume struct {
	Mount       string `json:"mount"`
	Device      string `json:"device,omitempty"`
	Kind        string `json:"kind,omitempty"` // ext4, vfat, …
	Size        int64  `json:"size"`
	Free        int64  `json:"free"` // for a program without special rights
	Inodes      int64  `json:"inodes"`
	InodesFree  int64  `json:"inodesFree"`
	InodesKnown bool   `json:"inodesKnown,omitempty"`
	ReadOnly    bool   `json:"readOnly,omitempty"`
	From        string `json:"from,omitempty"` // file and line of the evidence that says so; empty when measured
}

// A Device is something attached that can be taken away.
type Device struct {
	Name      string `json:"name"`
	Kind      string `json:"kind"` // disk, optical, …
	Bus       string `json:"bus"`  // usb, sata, nvme, …
	Size      int64  `json:"size,omitempty"`
	Removable bool   `json:"removable"`
	Mount     string `json:"mount,omitempty"`
}

// A RestartReason is a sign that the machine has to be restarted.
type RestartReason struct {
	By    string    `json:"by"` // where the system notes it
	Text  string    `json:"text"`
	Since time.Time `json:"since,omitzero"`
}

// Installed is the system on the machine with its packages.
type Installed struct {
	Family       string    `json:"family"`
	Name         string    `json:"name,omitempty"`
	Version      string    `json:"version,omitempty"`
	Codename     string    `json:"codename,omitempty"`
	Architecture string    `json:"architecture,omitempty"`
	Foreign      []string  `json:"foreign,omitempty"` // further architectures whose packages it takes
	Kernel       string    `json:"kernel,omitempty"`  // the running one; empty when it does not run
	Locale       string    `json:"locale,omitempty"`
	Packages     []Package `json:"packages"`
	// Database is how the package database looks: sound, empty or zero-filled.
	Database string `json:"database,omitempty"`
	// Vanished lists packages that logs saw installed and that the database
	// does not know any more. It is found out by reading, never measured.
	Vanished []string `json:"vanished,omitempty"`
	Sources  []Source `json:"sources"`
	// EarlyBoot is the size in bytes of the largest early-boot image, and
	// KernelImage that of the largest kernel.
	EarlyBoot   int64 `json:"earlyBoot,omitempty"`
	KernelImage int64 `json:"kernelImage,omitempty"`
}

// A Package is one that the system's database knows.
type Package struct {
	Name         string `json:"name"`
	Version      string `json:"version"`
	Architecture string `json:"architecture,omitempty"`
	Size         int64  `json:"size,omitempty"` // bytes when installed, by the package's own word
	State        string `json:"state"`          // installed, half-configured, …
	Held         bool   `json:"held,omitempty"`
	From         string `json:"from,omitempty"` // file and line of the evidence that says so; empty when measured
}

// A Source is a repository from which the system takes packages, with the
// dates that its signed list bears.
type Source struct {
	Address    string    `json:"address"`
	Suite      string    `json:"suite"`
	Dated      time.Time `json:"dated,omitzero"`
	ValidUntil time.Time `json:"validUntil,omitzero"`
}
