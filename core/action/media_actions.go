package action

import (
	"context"
	"errors"
	"fmt"

	"diorthos/core/block"
	"diorthos/core/firmware"
	"diorthos/core/media"
)

// mediaActions write install media.
var mediaActions = map[ID]Action{
	"media.write": {
		Destroys: true,
		Parameters: []Parameter{
			{Name: "image", Required: true, Says: "path of the image"},
			{Name: "firmware", Required: true, Says: "uefi or bios: what the machine starts by"},
		},
		fits:  anyDisk,
		loses: func(c *Context) ([]string, error) { return c.lost(nil) },
		do:    planMedium, stream: writeMedium, need: needOfMedium, prove: proveMedium,
	},
}

// withMedium opens the image that is named, and chooses how to write it.
func withMedium(c *Context, do func(block.Source, *media.Medium, media.Way) error) (err error) {
	if c.Image == nil {
		return errors.New("no image can be opened here")
	}
	src, err := c.Image(c.params["image"])
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, src.Close()) }()
	mode, err := firmware.ParseMode(c.params["firmware"])
	if err != nil {
		return err
	}
	m, err := media.Inspect(src)
	if err != nil {
		return fmt.Errorf("%s: %w", c.params["image"], err)
	}
	way, err := m.WayFor(mode)
	if err != nil {
		return fmt.Errorf("%s: %w", m.Title, err)
	}
	return do(src, m, way)
}

func planMedium(_ context.Context, c *Context) (e Effect, err error) {
	err = withMedium(c, func(_ block.Source, m *media.Medium, way media.Way) error {
		need := m.Need(way)
		e.Guard = []Check{{What: "the medium fits on it", OK: c.draft.Size() >= need,
			Saw: fmt.Sprintf("it has %d bytes, the medium needs %d", c.draft.Size(), need)}}
		e.Did = []string{fmt.Sprintf("%s, %s: %s", m.Title, way, StyleOf(way))}
		return nil
	})
	return e, err
}

// StyleOf is the table that a way of writing leaves.
func StyleOf(w media.Way) string {
	if w == media.AsItIs {
		return "the image's own tables"
	}
	return "GPT with one FAT32 partition"
}

func needOfMedium(c *Context) (need int64, err error) {
	err = withMedium(c, func(_ block.Source, m *media.Medium, way media.Way) error {
		need = m.Need(way)
		return nil
	})
	return need, err
}

func writeMedium(ctx context.Context, c *Context, dev block.Device) error {
	return withMedium(c, func(src block.Source, m *media.Medium, way media.Way) error {
		return m.Write(ctx, src, dev, way, newGUID, c.progress)
	})
}

func proveMedium(ctx context.Context, p Proof) []Check {
	c := Check{What: "what was read back is what was written"}
	err := withMedium(p.After, func(src block.Source, m *media.Medium, way media.Way) error {
		c.Saw = fmt.Sprintf("%d bytes, %s", m.Need(way), way)
		return m.Verify(ctx, src, p.After.draft, way, p.After.progress)
	})
	if c.OK = err == nil; !c.OK {
		c.Saw = err.Error()
	}
	return []Check{c}
}
