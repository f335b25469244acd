package action

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/ext"
	"diorthos/core/fat"
	"diorthos/core/layout"
	"diorthos/core/volumes"
)

// volumeActions put file systems right.
var volumeActions = map[ID]Action{
	"volume.mend": {
		Parameters: []Parameter{{Name: "partition", Says: "number of the partition; empty for all of them"}},
		fits: func(_ *bag.Facts, d bag.Disk) bool {
			return slices.ContainsFunc(d.Places(), func(p bag.Partition) bool {
				return isFAT(p.Content.Kind) || p.Content.Kind == ""
			})
		},
		do: mendVolumes, prove: proveVolumes,
	},
	"volume.mend-group": {
		fits: func(_ *bag.Facts, d bag.Disk) bool {
			return slices.ContainsFunc(d.Volumes, func(v bag.InnerVolume) bool { return v.Damaged && v.Mendable })
		},
		do: mendGroups, prove: proveGroups,
	},
}

func isFAT(kind string) bool { return kind == "fat12" || kind == "fat16" || kind == "fat32" }

// draftSection is a partition of a draft.
func draftSection(d *block.Draft, off, length int64) *block.WriteRange {
	return block.NewWriteRange(d, off, length)
}

// A VolumeCheck is what is wrong with a file system, and the writes that put it
// right; their offsets count from the start of its partition.
type VolumeCheck struct {
	Kind     string        `json:"kind"` // fat or ext; empty when it is none that can be checked
	Files    int           `json:"files"`
	Folders  int           `json:"folders"`
	Findings []fat.Finding `json:"findings"`
	Writes   []block.Write `json:"-"`
}

// CheckVolume checks a FAT file system whole, and of ext whether it can be read
// by its first superblock, or by which other, and whether its groups and bitmaps agree. What is neither is an error.
func CheckVolume(part block.Source, length int64) (*VolumeCheck, error) {
	report, fatErr := fat.Check(part)
	if fatErr == nil {
		return &VolumeCheck{
			Kind: "fat", Files: report.Files, Folders: report.Folders,
			Findings: append([]fat.Finding{}, report.Findings...), Writes: report.Writes,
		}, nil
	}
	if f, err := ext.Open(part); err == nil {
		return checkGroups(f, part, length)
	}
	b, err := ext.FindBackup(part, length)
	if err != nil {
		return nil, fmt.Errorf("no file system that can be checked: %w; %w", fatErr, err)
	}
	writes, err := b.Restore(part)
	if err != nil {
		return nil, err
	}
	text := fmt.Sprintf("the first superblock is damaged; the one of group %d, at byte %d, is sound", b.Group, b.At)
	return &VolumeCheck{Kind: "ext", Writes: writes, Findings: []fat.Finding{{ID: "superblock-damaged", Text: text,
		Do: "restore it from there, and what is damaged of the group descriptors; " +
			"the system's own check follows at its start"}}}, nil
}

// mostGroups bounds how many faults of groups are told of one volume.
const mostGroups = 20

// checkGroups looks at the groups of an ext file system. Damaged descriptors can be put right; a bitmap that is not as
// it was cannot be told from what is in use without a whole check.
func checkGroups(f *ext.FS, part block.Source, length int64) (*VolumeCheck, error) {
	v := &VolumeCheck{Kind: "ext", Findings: []fat.Finding{}}
	faults, err := f.Check(mostGroups, true)
	if err != nil {
		return nil, err
	}
	if len(faults) == 0 {
		return v, nil
	}
	do := "check the file system whole, with e2fsck"
	if v.Writes, err = f.MendGroups(part, length); err == nil && len(v.Writes) > 0 {
		do = "write damaged descriptors anew from their copies, and count what they say"
	}
	for _, text := range faults {
		v.Findings = append(v.Findings, fat.Finding{ID: "groups-disagree", Text: text, Do: do})
	}
	return v, nil
}

// mayBeChecked reports whether a volume holds, or may once have held, a file
// system that can be checked.
func mayBeChecked(v *volumes.Volume) bool {
	kind := v.Content.Kind
	return kind == "" || isFAT(kind) || kind == "ext2" || kind == "ext3" || kind == "ext4"
}

// eachVolume calls f for each file system of the disk that can be checked, or
// for that of the named partition. A disk without partitions may itself be one.
func (c *Context) eachVolume(f func(*volumes.Volume, *VolumeCheck) error) error {
	only, err := c.number("partition")
	if err != nil {
		return err
	}
	list := volumes.Open(c.draft, c.table, c.Keys).All()
	if len(list) == 0 {
		list = []*volumes.Volume{
			{Name: "the whole disk", Size: c.table.Size, Dev: c.draft, Content: layout.Recognise(c.draft)},
		}
	}
	for _, p := range list {
		if only != 0 && only != p.Number || p.Dev == nil || p.ReadOnly || !mayBeChecked(p) {
			continue
		}
		v, err := CheckVolume(p.Dev, p.Size)
		if err != nil {
			continue // none that can be mended
		}
		if err := f(p, v); err != nil {
			return err
		}
	}
	return nil
}

func mendVolumes(_ context.Context, c *Context) (Effect, error) {
	var e Effect
	looked := 0
	err := c.eachVolume(func(p *volumes.Volume, v *VolumeCheck) error {
		looked++
		if len(v.Writes) == 0 {
			return nil // nothing that can be put right here
		}
		for _, f := range v.Findings {
			e.Did = append(e.Did, fmt.Sprintf("%s: %s: %s", p.Name, f.Text, f.Do))
		}
		return p.Put(v.Writes)
	})
	e.Guard = []Check{{What: "there is a file system that can be checked", OK: err == nil && looked > 0,
		Saw: fmt.Sprintf("%d", looked)}}
	if err == nil && looked > 0 && len(e.Did) == 0 {
		err = ErrNothing
	}
	return e, err
}

// mendGroups writes the headers of damaged metadata areas of volume groups anew.
func mendGroups(_ context.Context, c *Context) (Effect, error) {
	var e Effect
	set := volumes.Open(c.draft, c.table, c.Keys)
	mends, err := set.MendGroups()
	for v, writes := range mends {
		if err == nil {
			err = v.Put(writes)
			e.Did = append(e.Did, fmt.Sprintf("%s: the header of its metadata names the newest text again", v.Name))
		}
	}
	e.Guard = []Check{{What: "the newest text of the metadata is whole", OK: err == nil,
		Saw: fmt.Sprintf("%d areas whose header alone is damaged", len(mends))}}
	if err == nil && len(mends) == 0 {
		err = ErrNothing
	}
	return e, err
}

// proveGroups reads the volumes by the mended metadata.
func proveGroups(_ context.Context, p Proof) []Check {
	var err error
	n := 0
	for _, v := range volumes.Open(p.After.draft, p.After.table, p.After.Keys).Inner() {
		if v.Kind != volumes.Logical {
			continue
		}
		if n++; v.Damaged && v.Mendable {
			err = fmt.Errorf("%s: %s", v.Name, v.Problem)
		}
	}
	if err == nil && n == 0 {
		err = errors.New("no logical volume is found")
	}
	return resultCheck("the volumes of the group are read by its own metadata", err, fmt.Sprintf("%d volumes", n))
}

// proveVolumes looks at every file system that was looked at before, and at no
// fewer.
func proveVolumes(_ context.Context, p Proof) []Check {
	kinds := map[string]int{}
	count := func(n *int) func(*volumes.Volume, *VolumeCheck) error {
		return func(*volumes.Volume, *VolumeCheck) error {
			*n++
			return nil
		}
	}
	before, after := 0, 0
	err := p.Before.eachVolume(count(&before))
	if err == nil {
		err = p.After.eachVolume(func(q *volumes.Volume, v *VolumeCheck) error {
			after++
			kinds[v.Kind]++
			if len(v.Findings) > 0 {
				return fmt.Errorf("%s: %s", q.Name, v.Findings[0].Text)
			}
			return nil
		})
	}
	if err == nil && (after == 0 || after < before) {
		err = fmt.Errorf("%d can be looked at, before there were %d", after, before)
	}
	saw := fmt.Sprintf("%d FAT, checked whole; %d ext, their groups and bitmaps, not their files",
		kinds["fat"], kinds["ext"])
	return resultCheck("nothing is found wrong with the file systems that can be checked", err, saw)
}
