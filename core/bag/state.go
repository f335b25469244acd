package bag

import (
	"time"

	"diorthos/core/boot"
	"diorthos/core/store"
	"diorthos/core/upkeep"
)

// A State is how the parts of a system stand, where its adapter can tell.
type State struct {
	// Firmware is the file that holds firmware variables and clock, where they
	// are held in one.
	Firmware *FirmwareFile       `json:"plate,omitempty"`
	Chain    boot.Chain          `json:"chain,omitempty"` // by which the machine starts
	Ways     []boot.Way          `json:"ways,omitempty"`  // by which it could, in the firmware's order, where that is known
	Services []upkeep.Service    `json:"services,omitempty"`
	Store    *store.Verification `json:"store,omitempty"`
	Pending  *Pending            `json:"pending,omitempty"`
	Settings []SettingFault      `json:"settings,omitempty"`
	Update   *UpdateClient       `json:"update,omitempty"`
	Drivers  []Driver            `json:"drivers,omitempty"`
	Features []Feature           `json:"features,omitempty"`
	Programs []Program           `json:"programs,omitempty"`
	History  []HistoryEntry      `json:"history,omitempty"` // the oldest first
	Medium   *Medium             `json:"medium,omitempty"`
	Health   *Health             `json:"health,omitempty"`
	// FileSystems lists what is wrong with those of the boot and the system
	// volume.
	FileSystems []VolumeFault `json:"fileSystems,omitempty"`
	Checkpoints []Checkpoint  `json:"checkpoints,omitempty"`
	// Lists are those of the system's own state that are missing, cannot be read or
	// contradict each other.
	Lists []StateFault `json:"lists,omitempty"`
	// Looked lists the parts that were looked at, and those that could not be.
	// What is not listed was not measured.
	Looked []Looked `json:"looked,omitempty"`
}

// A Looked is a part of a system that was looked at: services, store, pending,
// settings, update, history, drivers, features, programs, disk or chain.
type Looked struct {
	Part    string `json:"part"`
	Saw     string `json:"saw,omitempty"`     // what was looked at, in words
	Problem string `json:"problem,omitempty"` // why it could not be
}

// LookedAt says what was looked at of a part; nil when nothing was.
func (s *State) LookedAt(part string) *Looked {
	for i := range s.Looked {
		if s.Looked[i].Part == part {
			return &s.Looked[i]
		}
	}
	return nil
}

// A StateFault is a list of the system's own state that is not as it has to be.
type StateFault struct {
	File  string `json:"file"`
	Text  string `json:"text"`            // what is wrong with it
	Start bool   `json:"start,omitempty"` // the machine does not start without it
}

// A FirmwareFile is known again by its mark.
type FirmwareFile struct {
	Source string `json:"source"`
	Size   int64  `json:"size"`
	Mark   string `json:"mark"`
	Loader string `json:"loader,omitempty"` // what an entry for this disk has to name, where that is known
}

// Pending is work for the next start.
type Pending struct {
	Transaction string             `json:"transaction"`
	Operations  int                `json:"operations"`
	Whole       bool               `json:"whole"` // the list does not break off
	Gone        []MissingReference `json:"gone"`
}

// A MissingReference is something that operations refer to and that is not there.
type MissingReference struct {
	Component  string `json:"component"`
	Version    string `json:"version"`
	Operations int    `json:"operations"`
}

// A SettingFault is a branch or a value that is not as it should be.
type SettingFault struct {
	Branch string `json:"branch"`
	Name   string `json:"name,omitempty"`
	Kind   string `json:"kind"` // damaged, owner or value
	Want   string `json:"want"`
	Got    string `json:"got"`
}

// An UpdateClient is what fetches and installs updates.
type UpdateClient struct {
	Service       string            `json:"service"`
	PausedUntil   string            `json:"pausedUntil,omitempty"` // date
	CacheLocked   bool              `json:"cacheLocked,omitempty"`
	CacheDamaged  []Download        `json:"cacheDamaged,omitempty"`
	CacheOld      []Download        `json:"cacheOld,omitempty"` // of what is long done
	EarlyOld      []Download        `json:"earlyOld,omitempty"` // early-boot images of builds that are gone
	Leftovers     []string          `json:"leftovers,omitempty"`
	Policy        map[string]string `json:"policy"`
	Offers        []Offer           `json:"offers"`
	FeatureOnline bool              `json:"featureOnline"`
}

// A Download is a file of an update client.
type Download struct {
	Name string `json:"name"`
	Size int64  `json:"size"`
	Want string `json:"want,omitempty"`
	Got  string `json:"got,omitempty"`
}

// An Offer is what an update client was asked to install.
type Offer struct {
	ID           string    `json:"id"`
	Kind         string    `json:"kind"` // update, upgrade, driver, feature
	Title        string    `json:"title"`
	Build        int       `json:"build"` // after it
	Base         int       `json:"base"`  // the one it is for
	Architecture string    `json:"architecture"`
	SupersededBy string    `json:"supersededBy,omitempty"`
	Device       string    `json:"device,omitempty"`
	Version      string    `json:"version,omitempty"`
	Feature      string    `json:"feature,omitempty"`
	As           string    `json:"as"` // the account that asked
	Held         bool      `json:"held,omitempty"`
	Cached       bool      `json:"cached,omitempty"`
	From         time.Time `json:"from,omitzero"` // validity of its signature
	Until        time.Time `json:"until,omitzero"`
	Lacks        []Lack    `json:"lacks"` // what the machine lacks for it
}

// A Lack is something that an offer asks for and the machine does not have.
type Lack struct {
	Kind string `json:"kind"` // memory, processor, display, disk, model, space, boot-space, …
	Want string `json:"want"`
	Got  string `json:"got"`
}

// A Driver of a device.
type Driver struct {
	Device  string `json:"device"`
	Version string `json:"version"`
}

// A Feature that can be added.
type Feature struct {
	Name    string `json:"name"`
	On      bool   `json:"on"`
	Present bool   `json:"present"` // its payload is on the machine
}

// A Program that a user installed.
type Program struct {
	Name      string    `json:"name"`
	Version   string    `json:"version"`
	Installed time.Time `json:"installed"`
}

// A HistoryEntry is something that was installed.
type HistoryEntry struct {
	When  time.Time `json:"when"`
	Kind  string    `json:"kind"`
	ID    string    `json:"id"`
	Title string    `json:"title"`
	Build int       `json:"build"`
	Was   int       `json:"was"`
	// Wants lists what the components that it brought ask of the machine and
	// do not find.
	Wants []string `json:"wants,omitempty"`
}

// A Medium is in the drive.
type Medium struct {
	Build   int      `json:"build"`
	Modes   []string `json:"modes"`
	Damaged string   `json:"damaged,omitempty"`
}

// Health is what the disk says of itself.
type Health struct {
	Reallocated int     `json:"reallocated"` // sectors
	Unreadable  []int64 `json:"unreadable"`  // LBAs
}

// A VolumeFault is something wrong with a file system.
type VolumeFault struct {
	Partition int    `json:"partition"`
	ID        string `json:"id"`
	Text      string `json:"text"`
}

// A Checkpoint can be returned to.
type Checkpoint struct {
	ID    string    `json:"id"`
	When  time.Time `json:"when"`
	Why   string    `json:"why"`
	Build int       `json:"build"`
}
