package layout_test

import (
	"fmt"
	"os"

	"diorthos/core/block"
	"diorthos/core/fat"
	"diorthos/core/layout"
)

// A disk is partitioned and one partition formatted; its primary table is
// damaged, found to be so, and mended from the backup. All of it happens in a
// draft: who keeps it, applies its writes through a journal.
func Example() {
	file, err := os.CreateTemp("", "disk-")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer func() { _ = os.Remove(file.Name()) }()
	if err := file.Truncate(64 << 20); err != nil {
		fmt.Println(err)
		return
	}
	disk, err := block.OpenImage(file.Name(), 512, true)
	if err != nil {
		fmt.Println(err)
		return
	}
	defer func() { _ = disk.Close() }()
	draft := block.NewDraft(disk)

	esp := layout.Entry{
		Type: layout.TypeESP,
		ID:   layout.MustParseGUID("5CA1AB1E-0000-4000-8000-000000000002"),
		Span: layout.Span{First: 2048, Last: 104447},
		Name: "boot",
	}
	writes, err := layout.Create(disk.Size(), disk.SectorSize(), layout.Plan{
		DiskGUID:   layout.MustParseGUID("5CA1AB1E-0000-4000-8000-000000000001"),
		Partitions: []layout.Entry{esp},
	})
	put := func(writes []block.Write) {
		for _, w := range writes {
			if _, err := draft.WriteAt(w.Data, w.Off); err != nil {
				fmt.Println(err)
			}
		}
	}
	if err == nil {
		put(writes)
		err = fat.Format(block.NewWriteRange(draft, 2048*512, 102400*512), 102400*512, fat.Options{
			Label:  "BOOT",
			Serial: 0x5ca1ab1e,
		})
	}
	if err != nil {
		fmt.Println(err)
		return
	}
	put([]block.Write{{Off: 512, Data: make([]byte, 512)}}) // as a careless tool does

	table, err := layout.Read(draft)
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, problem := range table.Check() {
		fmt.Println(problem.ID)
	}
	mend, err := table.MendPrimary()
	if err != nil {
		fmt.Println(err)
		return
	}
	put(mend)
	if table, err = layout.Read(draft); err != nil {
		fmt.Println(err)
		return
	}
	part := table.Partitions()[0]
	content := layout.Recognise(block.NewReadRange(draft, part.Off, part.Length))
	fmt.Println(len(table.Check()), "problems;", part.Type, content.Kind, content.Label)
	// Output:
	// gpt-signature-missing
	// 0 problems; EFI system fat32 BOOT
}
