package action

import (
	"bytes"
	"errors"
	"fmt"
	"io"

	"diorthos/core/block"
	"diorthos/core/layout"
)

// overwrites looks at what a new table would be written over. Below the first partition
// of a disk without a GPT can lie a loader's core image; the last sectors can be the end
// of a file system that is larger than its partition.
func (c *Context) overwrites(writes []block.Write) (Check, error) {
	check := Check{What: "the table is written over nothing that is in use"}
	d, err := c.described()
	if err != nil {
		return check, err
	}
	for _, w := range writes {
		now := make([]byte, len(w.Data))
		if _, err := c.draft.ReadAt(now, w.Off); err != nil && !errors.Is(err, io.EOF) {
			return check, err
		}
		if w.Off < int64(c.table.SectorSize) || bytes.Equal(now, w.Data) || len(bytes.Trim(now, "\x00")) == 0 {
			continue
		}
		end := w.Off + int64(len(w.Data))
		for _, p := range d.Partitions {
			if p.Content.Size > 0 && w.Off < p.Offset+p.Content.Size && p.Offset < end {
				check.Saw = fmt.Sprintf(
					"the %s on partition %d reaches to byte %d, and the %s would be written into it from byte %d on",
					p.Content.Kind, p.Number, p.Offset+p.Content.Size, w.What, w.Off,
				)
				return check, nil
			}
		}
		if c.table.Style() != layout.StyleGPT && !c.table.MBR.Protective() && !layout.LooksLikeGPT(now) {
			check.Saw = fmt.Sprintf(
				"%d bytes from byte %d on are no part of a table: a loader's core image lies there, or something else",
				len(bytes.Trim(now, "\x00")), w.Off,
			)
			return check, nil
		}
	}
	check.OK, check.Saw = true, fmt.Sprintf("%d places were looked at", len(writes))
	return check, nil
}
