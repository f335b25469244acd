package climb_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"diorthos/core/block"
	"diorthos/core/climb"
	"diorthos/core/layout"
	"diorthos/host"
	"diorthos/platform"
)

// agree says yes to everything, and tells how each rung ended.
type agree struct{}

func (agree) Consent(context.Context, climb.Consent) (string, error) { return climb.Yes, nil }

func (agree) Answer(context.Context, climb.Question) (string, error) { return "", climb.ErrUnanswered }

func (agree) Progress(context.Context, climb.Event) error { return nil }

// One repair that a person named is conducted like a whole ladder: guard,
// journal, change, proof.
func ExampleClimb_Run() {
	folder, err := os.MkdirTemp("", "climb-")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer func() { _ = os.RemoveAll(folder) }()
	disk := filepath.Join(folder, "disk.img")
	if err := damagedDisk(disk); err != nil {
		fmt.Println(err)
		return
	}
	record, err := climb.OpenRecord(filepath.Join(folder, "kestrel.climbs"), "kestrel")
	if err != nil {
		fmt.Println(err)
		return
	}
	machine := &host.Machine{Path: disk, Name: "kestrel", SectorSize: 512, Adapters: platform.All(), Now: time.Now}
	defer func() { _ = record.Close() }()
	dev, err := block.OpenImage(disk, 512, true)
	if err != nil {
		fmt.Println(err)
		return
	}
	table, err := layout.Read(dev)
	if err = errors.Join(err, dev.Close()); err != nil {
		fmt.Println(err)
		return
	}
	target := table.Target(disk) // what was diagnosed, and nothing else, is changed
	plan, err := climb.Single("kestrel", "layout.mend-primary-gpt", nil, &target)
	if err != nil {
		fmt.Println(err)
		return
	}
	c := climb.Climb{
		Plan:      plan,
		On:        machine,
		Attendant: agree{},
		Record:    record,
		File:      filepath.Join(folder, "mend.journal"),
		Now:       time.Now,
	}
	runs, err := c.Run(context.Background())
	if err != nil {
		fmt.Println(err)
	}
	for _, run := range runs {
		fmt.Println(run.Outcome, filepath.Base(run.Journal))
	}
	// Output:
	// proven mend.journal
}

// damagedDisk makes one whose primary table was overwritten.
func damagedDisk(path string) error {
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	defer func() { _ = file.Close() }()
	writes, err := layout.Create(
		64<<20, 512, layout.Plan{DiskGUID: layout.MustParseGUID("5CA1AB1E-0000-4000-8000-000000000001")},
	)
	if err != nil {
		return err
	}
	for _, w := range append(writes, block.Write{Off: 512, Data: make([]byte, 512)}) {
		if _, err := file.WriteAt(w.Data, w.Off); err != nil {
			return err
		}
	}
	return file.Truncate(64 << 20)
}
