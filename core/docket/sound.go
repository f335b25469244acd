package docket

import (
	"fmt"
	"slices"
	"strings"

	"diorthos/core/bag"
	"diorthos/core/layout"
)

// NothingWrong is the headline of a docket by which a machine is well.
const NothingWrong = "Nothing wrong was found"

// Sound reports whether nothing wrong was found, and there was something to find it
// in: an attempt in the logs, or a system. A disk that is empty is not fine.
func (d *Docket) Sound() bool { return d.Headline() == NothingWrong }

// From this probability on a kind is said where no single cause is likelier than not.
const kindSure = 0.8

// Headline is the docket in one line: the likeliest cause, or its kind where no single
// one is likelier than not; else what else is wrong, else that there is nothing to judge by.
func (d *Docket) Headline() string {
	if len(d.Why) > 0 {
		if len(d.Kinds) > 0 && d.Why[0].Probability < 0.5 && d.Kinds[0].Probability >= kindSure {
			return d.Kinds[0].Title
		}
		return d.Why[0].Title
	}
	if d.Failure != nil {
		return "An attempt failed, and no cause is known"
	}
	if d.Call != nil {
		return "What was told points to no cause that is known"
	}
	measured := len(d.Attempts) > 0 || d.State != nil
	for _, disk := range d.Disks {
		for _, p := range disk.Problems {
			if p.Severity == layout.Broken {
				return fmt.Sprintf("%s: %s", p.Part, p.Text)
			}
		}
		for _, p := range disk.Places() {
			measured = measured || p.System != nil
		}
	}
	if n := closedVolumes(d.Disks); !measured && n > 0 {
		return "Nothing to judge by yet: an encrypted volume was not opened; give its key"
	}
	if !measured {
		return "Nothing to judge by: neither a system nor an attempt was found"
	}
	return NothingWrong
}

// closedVolumes counts the encrypted volumes that were not opened.
func closedVolumes(disks []bag.Disk) (n int) {
	for _, d := range disks {
		for _, p := range d.Partitions {
			holds := slices.ContainsFunc(d.Volumes, func(v bag.InnerVolume) bool { return slices.Contains(v.Within, p.Number) })
			if strings.HasPrefix(p.Content.Kind, "luks") && !holds {
				n++
			}
		}
	}
	return n
}
