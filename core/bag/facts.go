package bag

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"diorthos/core/layout"
	"diorthos/core/volumes"
)

// FactsVersion is what the field "schema" of the facts must say.
const FactsVersion = "diorthos-facts-1"

// Facts is what was measured on a machine. Sizes are in bytes, LBAs in
// sectors from the start of the disk. See docs/formats.md.
type Facts struct {
	Schema   string    `json:"schema"`
	Gathered time.Time `json:"gathered"`
	Machine  Machine   `json:"machine"`
	Disks    []Disk    `json:"disks"`
	Tree     *Tree     `json:"tree,omitempty"` // where a folder was looked at, or the running machine

	Hardware  *Hardware       `json:"hardware,omitempty"`
	Firmware  *Firmware       `json:"firmware,omitempty"`
	Clock     *Clock          `json:"clock,omitempty"`
	Network   *Network        `json:"network,omitempty"`
	Volumes   []Volume        `json:"volumes,omitempty"`
	Devices   []Device        `json:"devices,omitempty"`
	Owed      []RestartReason `json:"owed,omitempty"`     // why a restart is owed
	Surveyed  bool            `json:"surveyed,omitempty"` // whether restarts owed and devices were looked for
	Installed *Installed      `json:"installed,omitempty"`
	State     *State          `json:"state,omitempty"`
	LeftOut   []LeftOut       `json:"leftOut,omitempty"` // logs that are there and could not be taken
	Mended    []Mended        `json:"mended,omitempty"`  // what was done to the machine before, by its record
	Call      *Call           `json:"call,omitempty"`    // what was told before there was evidence
	Masked    bool            `json:"masked,omitempty"`  // names of people and addresses were replaced
}

// A Tree is the files of a system that were looked at in a folder, and not on a disk.
type Tree struct {
	Source string   `json:"source"` // the folder; / of the running machine
	Marks  []string `json:"marks"`  // by which the system is known again
}

// A Call is what somebody read off a screen, or told.
type Call struct {
	Words   string         `json:"words"`
	When    string         `json:"when,omitempty"`    // start or attempt; empty when not known
	Answers map[string]int `json:"answers,omitempty"` // to checks, by the check's id: the number of the answer
}

// A Mended is a remedy that was tried on the machine, and how it ended.
type Mended struct {
	At      time.Time `json:"at"`
	Remedy  string    `json:"remedy"`
	Outcome string    `json:"outcome"` // as climbs call it
}

// Family is that of the system that was found, as its adapter calls it; empty if
// none was.
func (facts *Facts) Family() string {
	if facts.Installed != nil && facts.Installed.Family != "" {
		return facts.Installed.Family
	}
	for _, d := range facts.Disks {
		for _, p := range d.Places() {
			if p.System != nil {
				return p.System.Family
			}
		}
	}
	return ""
}

// A LeftOut is a log that was found and could not be taken.
type LeftOut struct {
	Name string `json:"name"` // on the machine
	Why  string `json:"why"`
}

// A Machine is the computer as it names itself.
type Machine struct {
	Name  string `json:"name"`
	Site  string `json:"site,omitempty"`
	Model string `json:"model,omitempty"`
}

// A Disk is one disk with its tables as found and the partitions by the copy
// that can be trusted.
type Disk struct {
	ID         string           `json:"id"`     // "disk0"
	Source     string           `json:"source"` // file or device it was read from, without its folder
	Size       int64            `json:"size"`
	SectorSize int              `json:"sectorSize"`
	Style      layout.Style     `json:"style"`
	Marks      []string         `json:"marks"` // by which the disk is known again
	MBR        MBR              `json:"mbr"`
	Primary    TableCopy        `json:"primary"`
	Backup     TableCopy        `json:"backup"`
	Problems   []layout.Problem `json:"problems"`
	Partitions []Partition      `json:"partitions"`
	Volumes    []InnerVolume    `json:"volumes,omitempty"` // that lie inside partitions
}

// An InnerVolume lies inside a partition, or inside another one: a logical volume, an array, what
// an encrypted volume holds.
type InnerVolume struct {
	Number   int          `json:"number"` // from 1001 on
	Kind     volumes.Kind `json:"kind"`
	Name     string       `json:"name"`
	Names    []string     `json:"names,omitempty"` // as the kernel and what configures it write it
	Within   []int        `json:"within"`          // numbers of what it lies in
	Size     int64        `json:"size"`
	Content  Content      `json:"content"`
	Role     layout.Role  `json:"role,omitempty"`
	Mount    string       `json:"mount,omitempty"`
	System   *System      `json:"system,omitempty"`
	Problem  string       `json:"problem,omitempty"` // why it cannot be put together, or not be written
	ReadOnly bool         `json:"readOnly,omitempty"`
	Damaged  bool         `json:"damaged,omitempty"`  // what puts it together is damaged, and was read from a copy
	Mendable bool         `json:"mendable,omitempty"` // and that copy is the newest
}

// Places are the partitions and what lies inside them, as if all were partitions: a type says what
// those are that are none.
func (d Disk) Places() []Partition {
	list := slices.Clone(d.Partitions)
	for _, v := range d.Volumes {
		list = append(list, Partition{
			Number: v.Number, Type: string(v.Kind), Name: v.Name, Size: v.Size, Content: v.Content, Role: v.Role, Mount: v.Mount,
			System: v.System,
		})
	}
	return list
}

// MBR is what sector 0 says.
type MBR struct {
	Signed     bool `json:"signed"`
	Protective bool `json:"protective"`
	HasCode    bool `json:"hasCode"`
}

// TableCopy is one of the two copies of a GPT.
type TableCopy struct {
	State           layout.CopyState `json:"state"`
	LBA             uint64           `json:"lba"`
	DiskGUID        string           `json:"diskGUID,omitempty"`
	HeaderCRC       string           `json:"headerCRC,omitempty"`
	HeaderComputed  string           `json:"headerComputed,omitempty"`
	EntriesCRC      string           `json:"entriesCRC,omitempty"`
	EntriesComputed string           `json:"entriesComputed,omitempty"`
	FirstUsable     uint64           `json:"firstUsable,omitempty"`
	LastUsable      uint64           `json:"lastUsable,omitempty"`
}

// A Partition is a partition and what lies on it.
type Partition struct {
	Number   int         `json:"number"`
	Type     string      `json:"type"`
	TypeCode string      `json:"typeCode"`
	ID       string      `json:"id,omitempty"`
	Name     string      `json:"name,omitempty"`
	Active   bool        `json:"active,omitempty"`
	First    uint64      `json:"first"` // LBA
	Last     uint64      `json:"last"`  // LBA, included
	Offset   int64       `json:"offset"`
	Size     int64       `json:"size"`
	Content  Content     `json:"content"`
	Role     layout.Role `json:"role,omitempty"` // what the system uses it for
	Mount    string      `json:"mount,omitempty"`
	System   *System     `json:"system,omitempty"`
}

// Content is what a partition's own superblock says. Free is -1 when it does
// not say.
type Content struct {
	Kind      string `json:"kind"`
	Label     string `json:"label,omitempty"`
	UUID      string `json:"uuid,omitempty"`
	Size      int64  `json:"size"`
	Free      int64  `json:"free"`
	LastMount string `json:"lastMount,omitempty"`
	Note      string `json:"note,omitempty"`
}

// A System is an operating system found on a partition.
type System struct {
	Family  string `json:"family"` // as its adapter calls it
	Name    string `json:"name"`
	Version string `json:"version,omitempty"`
	Host    string `json:"host,omitempty"`
}

//go:embed facts.schema.json
var factsSchema []byte

// FactsSchema returns the JSON Schema of the facts.
func FactsSchema() []byte { return bytes.Clone(factsSchema) }

var compiledSchema = sync.OnceValues(func() (*jsonschema.Schema, error) {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(factsSchema))
	if err != nil {
		return nil, err
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("urn:diorthos:facts:1", doc); err != nil {
		return nil, err
	}
	return c.Compile("urn:diorthos:facts:1")
})

// ParseFacts checks raw against the schema and reads it.
func ParseFacts(raw []byte) (*Facts, error) {
	schema, err := compiledSchema()
	if err != nil {
		return nil, fmt.Errorf("facts schema: %w", err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	if err != nil {
		return nil, fmt.Errorf("facts are not JSON: %w", err)
	}
	if err := schema.Validate(doc); err != nil {
		return nil, fmt.Errorf("facts: %s", firstViolation(err))
	}
	var facts Facts
	if err := json.Unmarshal(raw, &facts); err != nil {
		return nil, fmt.Errorf("facts: %w", err)
	}
	return &facts, nil
}

// firstViolation says in one line where the innermost fault lies.
func firstViolation(err error) string {
	var v *jsonschema.ValidationError
	if !errors.As(err, &v) {
		return err.Error()
	}
	for len(v.Causes) > 0 {
		v = v.Causes[0]
	}
	text := v.Error()
	if i := strings.LastIndex(text, "\n"); i >= 0 {
		text = strings.TrimPrefix(text[i+1:], "- ")
	}
	return "/" + strings.Join(v.InstanceLocation, "/") + ": " + strings.TrimSpace(text)
}

// AsMap gives the facts as expressions see them: whole numbers stay whole.
func (facts *Facts) AsMap() (map[string]any, error) {
	raw, err := json.Marshal(facts)
	if err != nil {
		return nil, err
	}
	d := json.NewDecoder(bytes.NewReader(raw))
	d.UseNumber()
	var m map[string]any
	if err := d.Decode(&m); err != nil {
		return nil, err
	}
	return wholeNumbers(m).(map[string]any), nil
}

func wholeNumbers(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for name, e := range v {
			v[name] = wholeNumbers(e)
		}
	case []any:
		for i, e := range v {
			v[i] = wholeNumbers(e)
		}
	case json.Number:
		if n, err := v.Int64(); err == nil {
			return n
		}
		f, _ := v.Float64() // what JSON wrote as a number is one
		return f
	}
	return v
}
