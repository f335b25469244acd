package block_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"

	"diorthos/core/block"
)

// What is written through a journal can be taken back, byte for byte.
func ExampleJournal() {
	folder, err := os.MkdirTemp("", "journal-")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer func() { _ = os.RemoveAll(folder) }()
	path := filepath.Join(folder, "disk.img")
	if err := os.WriteFile(path, bytes.Repeat([]byte("sea "), 1<<20), 0o600); err != nil {
		fmt.Println(err)
		return
	}
	disk, err := block.OpenImage(path, 512, false)
	if err != nil {
		fmt.Println(err)
		return
	}
	defer func() { _ = disk.Close() }()
	head := block.Head{Action: "word.write", Target: block.Target{Path: path, Size: disk.Size(), SectorSize: 512}}
	journal, err := block.CreateJournal(filepath.Join(folder, "word.journal"), head)
	if err != nil {
		fmt.Println(err)
		return
	}
	defer func() { _ = journal.Close() }()
	show := func() {
		word := make([]byte, 8)
		if _, err := disk.ReadAt(word, 4096); err != nil {
			fmt.Println(err)
		}
		fmt.Printf("%s: %q\n", journal.State(), word)
	}
	sector := append([]byte("harbour "), bytes.Repeat([]byte("sea "), 126)...)
	if err := journal.Apply(context.Background(), disk, []block.Write{{
		Off:  4096,
		Data: sector,
		What: "a word",
	}}); err != nil {
		fmt.Println(err)
	}
	show()
	if err := journal.Undo(context.Background(), disk); err != nil {
		fmt.Println(err)
	}
	show()
	// Output:
	// applied: "harbour "
	// undone: "sea sea "
}
