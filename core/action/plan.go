package action

import (
	"errors"
	"fmt"
	"unicode/utf8"

	"github.com/goccy/go-yaml"

	"diorthos/core/layout"
	"diorthos/core/units"
)

// A Plan is the layout that a person wants a disk to have.
type Plan struct {
	Requests []layout.PartitionRequest
	FATBits  map[string]int // by the partition's name; 0 for no file system
}

// planFile is how it is written.
type planFile struct {
	Partitions []struct {
		Name   string  `yaml:"name"`
		Type   string  `yaml:"type"`
		Min    string  `yaml:"min"`
		Max    string  `yaml:"max"`
		Share  float64 `yaml:"share"`
		Keep   int     `yaml:"keep"`
		Format string  `yaml:"format"`
	} `yaml:"partitions"`
}

// fatBits are the file systems that a plan can ask for.
var fatBits = map[string]int{"fat12": 12, "fat16": 16, "fat32": 32}

// ReadPlan reads a plan in YAML. Errors name the partition by its place.
func ReadPlan(text []byte) (*Plan, error) {
	if !utf8.Valid(text) {
		return nil, errors.New("it is no text")
	}
	var file planFile
	if err := yaml.UnmarshalWithOptions(text, &file, yaml.Strict()); err != nil {
		return nil, errors.New(yaml.FormatError(err, false, false)) // without the lines around it
	}
	if len(file.Partitions) == 0 {
		return nil, errors.New("lists no partitions")
	}
	plan := &Plan{FATBits: map[string]int{}}
	for i, p := range file.Partitions {
		r := layout.PartitionRequest{Name: p.Name, Share: p.Share, Keep: p.Keep}
		var ok bool
		if r.Type, ok = layout.TypeByName(p.Type); !ok && (p.Keep == 0 || p.Type != "") {
			return nil, fmt.Errorf("partition %d: no type is called %q; known are %v", i+1, p.Type, layout.TypeNames())
		}
		for text, into := range map[string]*int64{p.Min: &r.Min, p.Max: &r.Max} {
			if text == "" {
				continue
			}
			var err error
			if *into, err = units.ParseBytes(text); err != nil {
				return nil, fmt.Errorf("partition %d: %w", i+1, err)
			}
		}
		switch {
		case p.Keep == 0 && p.Min == "" && p.Share == 0:
			return nil, fmt.Errorf("partition %d: needs min, share or keep", i+1)
		case r.Max > 0 && r.Max < r.Min || p.Share < 0:
			return nil, fmt.Errorf("partition %d: max is less than min, or share less than 0", i+1)
		case p.Format != "" && (fatBits[p.Format] == 0 || p.Keep != 0):
			return nil, fmt.Errorf("partition %d: format can be fat12, fat16 or fat32, and not for one that is kept", i+1)
		}
		if _, twice := plan.FATBits[p.Name]; twice {
			return nil, fmt.Errorf("partition %d: another is called %q too", i+1, p.Name)
		}
		plan.FATBits[p.Name] = fatBits[p.Format]
		plan.Requests = append(plan.Requests, r)
	}
	return plan, nil
}
