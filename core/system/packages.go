package system

import (
	"io"
	"io/fs"

	"diorthos/core/bag"
	"diorthos/core/upkeep"
)

// Packages is an adapter whose family has packages that can be judged by
// themselves, and upgrades that can be computed.
type Packages interface {
	// ReadPackage reads what a package says of itself.
	ReadPackage(io.Reader) (bag.Package, error)
	// CompareVersions is negative when a is older than b, and positive when it is
	// newer.
	CompareVersions(a, b string) int
	// PackageLists names the lists of a release, by its codename, that a system
	// has fetched.
	PackageLists(root fs.FS, codename string) []string
	// PlanUpgrade computes the upgrade of an installed system from lists. Basis
	// says what they are.
	PlanUpgrade(sys *bag.Installed, basis string, lists ...io.Reader) (*UpgradePlan, error)
}

// A Cutter is an adapter whose pending work is a list that can be cut outside of
// a machine.
type Cutter interface {
	// FindGone finds in a list the operations on components that have no manifest
	// in a folder.
	FindGone(manifests fs.FS) upkeep.Finder
}

// An UpgradePlan is what an upgrade of exactly this machine consists of, computed
// from its packages and the release's. Sizes are in bytes.
type UpgradePlan struct {
	Upgrades int      `json:"upgrades"`
	New      int      `json:"new"`
	Held     []string `json:"held"`    // packages that stay because they are held
	Missing  []string `json:"missing"` // dependencies that the release does not fulfil
	Gone     []string `json:"gone"`    // installed packages that the release does not have
	Download int64    `json:"download"`
	Needs    []Need   `json:"needs"`
	Basis    string   `json:"basis"` // from what it was computed
}

// A Term is one line of an addition, in bytes.
type Term struct {
	What  string `json:"what"`
	Bytes int64  `json:"bytes"`
}

// A Place is what is on a machine's volumes that may lack room.
type Place string

// The places.
const (
	SystemVolumes Place = "system volume" // those on which programs and their records lie
	BootVolumes   Place = "boot volume"   // from which the machine is started
)

// VolumeRoom is what is free on a volume, in bytes, beside what the next attempt needs there.
type VolumeRoom struct {
	Need
	Free int64
}

// A Need is the room that an upgrade needs on one volume.
type Need struct {
	Mount string `json:"mount"`
	Terms []Term `json:"terms"`
}

// Bytes is the sum of the terms, at least 0.
func (n Need) Bytes() int64 {
	total := int64(0)
	for _, t := range n.Terms {
		total += t.Bytes
	}
	return max(total, 0)
}
