package corbelfile

import (
	"bytes"
	"encoding/json"
	"fmt"
)

// PlateName and DiskName are the files of a machine's folder.
const (
	PlateName = "nameplate.json"
	DiskName  = "disk.img"
)

// PlateSize is the length of a nameplate's file, in bytes: filled up with
// spaces, so that it can be changed in place.
const PlateSize = 32 << 10

// A Plate stands for what is not on the disk: what the machine is made of, its
// firmware, its clock, its network and what is attached to it.
type Plate struct {
	Format       string       `json:"format"`
	Serial       string       `json:"serial"`
	Name         string       `json:"name"`
	Site         string       `json:"site"`
	Model        string       `json:"model"`
	Architecture string       `json:"architecture"`
	Memory       int64        `json:"memory"` // bytes
	Processor    string       `json:"processor"`
	Processors   int          `json:"processors"`
	Flags        []string     `json:"flags"`
	Width        int          `json:"width"`
	Height       int          `json:"height"`
	Firmware     Firmware     `json:"firmware"`
	Clock        PlateClock   `json:"clock"`
	Network      PlateNetwork `json:"network"`
	Devices      []Device     `json:"devices"` // disks in the order in which the firmware offers them
	Medium       *Medium      `json:"medium,omitempty"`
	Wear         Wear         `json:"wear"`
}

const plateFormat = "corbel-nameplate 1"

// Firmware variables.
type Firmware struct {
	Mode    string       `json:"mode"` // uefi or bios
	Order   []string     `json:"order"`
	Entries []StartEntry `json:"entries"`
}

// A StartEntry is what the firmware can start.
type StartEntry struct {
	ID        string `json:"id"`
	Title     string `json:"title"`
	Partition string `json:"partition,omitempty"` // GUID; empty for the medium
	Path      string `json:"path,omitempty"`
}

// PlateClock is how far the clock is off, in seconds ahead of the true time,
// and the machine's zone, in minutes east.
type PlateClock struct {
	Offset int64 `json:"offset"`
	Zone   int   `json:"zone"`
}

// PlateNetwork is the network as the machine has it.
type PlateNetwork struct {
	Up        bool `json:"up"`
	Metered   bool `json:"metered"`
	TimeSync  bool `json:"timeSync"`            // the clock is set by the network
	LossEvery int  `json:"lossEvery,omitempty"` // the connection is lost each time so many blocks went over it
}

// A Device is attached.
type Device struct {
	Name      string `json:"name"`
	Kind      string `json:"kind"`
	Bus       string `json:"bus"`
	Size      int64  `json:"size"`
	Removable bool   `json:"removable"`
	Firmware  string `json:"firmware,omitempty"`
}

// A Medium is in the drive.
type Medium struct {
	File  string   `json:"file"` // beside the nameplate
	Modes []string `json:"modes"`
}

// Wear is how the disk is.
type Wear struct {
	Reallocated int     `json:"reallocated"`
	Unreadable  []int64 `json:"unreadable,omitempty"` // LBAs of 512 bytes
}

// Bytes writes the nameplate at its full length.
func (p *Plate) Bytes() ([]byte, error) {
	p.Format = plateFormat
	body, err := json.MarshalIndent(p, "", " ")
	if err != nil {
		return nil, err
	}
	if len(body)+1 > PlateSize {
		return nil, &FormatError{
			In:   "corbel",
			What: "nameplate",
			Want: fmt.Sprintf("at most %d bytes", PlateSize-1),
			Got:  fmt.Sprint(len(body)),
		}
	}
	raw := bytes.Repeat([]byte{' '}, PlateSize)
	copy(raw, body)
	raw[PlateSize-1] = '\n'
	return raw, nil
}

// ReadPlate reads a nameplate.
func ReadPlate(raw []byte) (*Plate, error) {
	var p Plate
	if err := json.Unmarshal(raw, &p); err != nil {
		return nil, &FormatError{In: "corbel", What: "nameplate", Want: "JSON", Got: err.Error()}
	}
	if p.Format != plateFormat || p.Serial == "" {
		return nil, &FormatError{In: "corbel", What: "nameplate: format", Want: plateFormat, Got: fmt.Sprintf("%q", p.Format)}
	}
	return &p, nil
}
