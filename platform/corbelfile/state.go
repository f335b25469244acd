package corbelfile

import "time"

// Kinds of sealed files.
const (
	KindIndex    = "corbel-index"
	KindManifest = "corbel-manifest"
)

// A Release says what is installed.
type Release struct {
	Family       string `json:"family"` // corbel
	Title        string `json:"title"`
	Version      string `json:"version"`
	Build        int    `json:"build"`
	Architecture string `json:"architecture"`
	Host         string `json:"host"`
}

// An Index lists the components that the release consists of.
type Index struct {
	Build      int         `json:"build"`
	Components []Component `json:"components"`
}

// A Component is one entry of the index.
type Component struct {
	Name     string `json:"name"`
	Version  string `json:"version"`
	Manifest string `json:"manifest"` // hash of the manifest's file
}

// A Manifest describes one component.
type Manifest struct {
	Name         string   `json:"name"`
	Version      string   `json:"version"`
	Build        int      `json:"build"`
	Architecture string   `json:"architecture"`
	Needs        []string `json:"needs,omitempty"`
	Supersedes   string   `json:"supersedes,omitempty"` // version
	Wants        Wants    `json:"wants"`
	Files        []File   `json:"files"`
}

// Wants is what a component asks of the machine when it is started.
type Wants struct {
	Flags  []string `json:"flags,omitempty"` // of the processor
	Memory int64    `json:"memory,omitempty"`
}

// A File of a component, with the payload object that it is made from.
type File struct {
	Path      string `json:"path"`    // below SystemFolder
	Payload   string `json:"payload"` // hash, and name below PayloadFolder
	Size      int64  `json:"size"`
	Protected bool   `json:"protected,omitempty"`
}

// Start types of a service.
const (
	StartAuto   = "auto"
	StartDemand = "demand"
	StartOff    = "off"
)

// A Service is a program that runs in the background.
type Service struct {
	Name    string   `json:"name"`
	Needs   []string `json:"needs,omitempty"`
	Start   string   `json:"start"`
	Running bool     `json:"running"`
	// File is what it runs, below SystemFolder; empty for one that is part of
	// the kernel. AtStart says that the machine cannot start without it.
	File    string `json:"file,omitempty"`
	AtStart bool   `json:"atStart,omitempty"`
	Program string `json:"program,omitempty"` // that installed it
}

// An Offer is something that the update client was offered, or was asked for.
type Offer struct {
	ID           string `json:"id"`
	Kind         string `json:"kind"` // update, upgrade, driver, feature
	Title        string `json:"title"`
	Build        int    `json:"build"` // after it
	Base         int    `json:"base"`  // the build it is for
	Architecture string `json:"architecture"`
	Digest       string `json:"digest"` // of the package, see PackDigest
	SupersededBy string `json:"supersededBy,omitempty"`
	Device       string `json:"device,omitempty"`  // of a driver
	Version      string `json:"version,omitempty"` // of a driver
	Feature      string `json:"feature,omitempty"`
	As           string `json:"as"` // the account that asked: system, or a user
	Held         bool   `json:"held,omitempty"`
	Fit          *Fit   `json:"fit,omitempty"` // what it asks of the machine
}

// RoomForAttempt is what an attempt asks of the system volume where its offer does not say, in bytes.
const RoomForAttempt = 2 << 20

// Fit is what a release asks of a machine.
type Fit struct {
	Memory     int64    `json:"memory,omitempty"` // bytes
	Disk       int64    `json:"disk,omitempty"`
	Free       int64    `json:"free,omitempty"`     // on the system volume
	FreeBoot   int64    `json:"freeBoot,omitempty"` // on the boot volume
	Flags      []string `json:"flags,omitempty"`
	Width      int      `json:"width,omitempty"`
	Height     int      `json:"height,omitempty"`
	Models     []string `json:"models,omitempty"` // supported; empty for all
	BuildLeast int      `json:"buildLeast,omitempty"`
}

// History is what was done, the oldest first.
type History struct {
	When    time.Time   `json:"when"`
	Kind    string      `json:"kind"`
	ID      string      `json:"id"`
	Title   string      `json:"title"`
	Build   int         `json:"build"`   // after it
	Was     int         `json:"was"`     // the build before it
	Changed []Component `json:"changed"` // the components as they were before
	// Return is the checkpoint that was made before it.
	Return string `json:"return,omitempty"`
}

// A Feature can be added and taken away.
type Feature struct {
	Name      string `json:"name"`
	Component string `json:"component"`
	On        bool   `json:"on"`
}

// A Driver is the program for one device.
type Driver struct {
	Device  string `json:"device"`
	Version string `json:"version"`
}

// A Program was installed by a user.
type Program struct {
	Name      string    `json:"name"`
	Version   string    `json:"version"`
	Installed time.Time `json:"installed"`
	Folder    string    `json:"folder"` // on the system volume
}

// A Transaction is work that is to be finished at the next start.
type Transaction struct {
	ID       string `json:"id"`
	Build    int    `json:"build"`
	Was      int    `json:"was"`
	Complete bool   `json:"complete"` // all of the list was written
	Return   string `json:"return"`   // the checkpoint to go back to
}

// A Checkpoint keeps the state files as they were.
type Checkpoint struct {
	ID    string    `json:"id"`
	When  time.Time `json:"when"`
	Why   string    `json:"why"`
	Build int       `json:"build"`
	Files []string  `json:"files"` // kept beside it, under their numbers
}

// Settings that the update client goes by, as branch and name.
const (
	PolicyBranch  = "update/policy"
	PolicyMetered = "metered"  // refuse or allow
	PolicyDrivers = "drivers"  // take or refuse
	PolicySource  = "source"   // vendor or none
	PolicyFeature = "features" // online or local
	PolicyPaused  = "paused-until"
	PolicyHeld    = "held"         // titles or numbers of offers, with "; " between them
	StageBranch   = "system/stage" // written when an attempt settles
)
