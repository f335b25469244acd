package host

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"diorthos/core/block"
	"diorthos/core/efivar"
	"diorthos/core/firmware"
	"diorthos/platform/debian"
)

// folderOfVariables makes a folder as the kernel shows variables, with an entry that leads to a partition.
func folderOfVariables(t *testing.T) string {
	t.Helper()
	folder := t.TempDir()
	for name, data := range map[string]string{
		"BootOrder-" + efivar.Global:  "\x07\x00\x00\x00\x03\x00",
		"Boot0003-" + efivar.Global:   "\x07\x00\x00\x00\x01\x00\x00\x00\x04\x00x\x00\x00\x00\x7f\xff\x04\x00",
		"SecureBoot-" + efivar.Global: "\x06\x00\x00\x00\x01",
	} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(data), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return folder
}

func contents(t *testing.T, folder string) (all string) {
	t.Helper()
	list, err := os.ReadDir(folder)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range list {
		raw, err := os.ReadFile(filepath.Join(folder, e.Name()))
		if err != nil {
			t.Fatal(err)
		}
		all += e.Name() + " " + string(raw) + "\n"
	}
	return all
}

// What is written to this computer's variables reaches them one by one, through a journal; what is taken back leaves no
// entry behind, and nothing but the entries and their order is touched.
func TestVariablesAreWrittenAndTakenBack(t *testing.T) {
	folder := folderOfVariables(t)
	before := contents(t, folder)
	const disk = "0C1B921F-119F-4ABF-99C7-8854C89CED36"
	adapter := debian.Adapter{}
	dev, err := openFirmware(folder, false)
	if err != nil {
		t.Fatal(err)
	}
	want, err := adapter.ReadFirmware(dev)
	if err != nil {
		t.Fatal(err)
	}
	want.Order = []string{"0001", "0003"}
	want.Entries = append(want.Entries, firmware.Entry{
		ID: "0001", Title: "debian", Partition: disk, Path: "EFI/debian/grubx64.efi", Number: 1, First: 2048, Sectors: 9000,
	})
	draft := block.NewDraft(dev)
	if err := adapter.WriteFirmware(draft, want); err != nil {
		t.Fatal(err)
	}
	head := block.Head{Target: block.Target{Path: folder, Size: dev.Size(), SectorSize: 512}}
	journal, err := block.CreateJournal(filepath.Join(t.TempDir(), "journal"), head)
	if err != nil {
		t.Fatal(err)
	}
	writes, err := draft.Writes()
	if err == nil {
		err = journal.Apply(t.Context(), dev, writes)
	}
	if err != nil {
		t.Fatal(err)
	}
	after := contents(t, folder)
	if !strings.Contains(after, "BootOrder-"+efivar.Global+" \x07\x00\x00\x00\x01\x00\x03\x00\n") ||
		!strings.Contains(
			after,
			"Boot0001-",
		) || !strings.Contains(after, "SecureBoot-"+efivar.Global+" \x06\x00\x00\x00\x01\n") {
		t.Fatalf("%q", after)
	}
	again, err := OpenTarget(head, "", false)
	if err != nil {
		t.Fatal(err)
	}
	got, err := adapter.ReadFirmware(again)
	if err != nil || got.Difference(want) != "" {
		t.Errorf("%v, %s", err, got.Difference(want))
	}
	if err := journal.Undo(t.Context(), again); err != nil {
		t.Fatal(err)
	}
	if now := contents(t, folder); now != before {
		t.Errorf("taken back: %q", now)
	}
	if leadTo(folder, filepath.Join(folder, "none")) {
		t.Error("an entry leads to a disk that is not there")
	}
}
