package layout

import (
	"fmt"
	"hash/crc32"
	"io"

	"diorthos/core/block"
)

// Read reads the MBR and both copies of the GPT. Damage is not an error: it
// stands in the copies' Problems and in Check. An error means that the disk
// could not be read or is too small to hold a table.
func Read(src block.Source) (*Table, error) {
	t := &Table{Size: src.Size(), SectorSize: src.SectorSize()}
	if t.Sectors() < 3 {
		return nil, &FormatError{What: "disk", Want: "at least 3 sectors", Got: fmt.Sprintf("%d bytes", t.Size)}
	}
	var err error
	if t.rawMBR, err = readSectors(src, 0, int64(t.SectorSize)); err != nil {
		return nil, fmt.Errorf("read sector 0: %w", err)
	}
	t.MBR = parseMBR(t.rawMBR, t.Sectors())
	for _, e := range t.MBR.Entries {
		if !extended(e.Type) || e.Sectors == 0 || len(t.MBR.Logical) > 0 {
			continue
		}
		if t.MBR.Logical, t.chain, err = readChain(src, e); err != nil {
			return nil, err
		}
	}
	if t.other, err = readsAsOther(src); err != nil {
		return nil, err
	}
	if t.Primary, err = readCopy(src, 1, false); err != nil {
		return nil, err
	}
	backupAt := t.Sectors() - 1
	if alt := t.Primary.Header.Alternate; t.Primary.Sound() && alt > 1 && alt < backupAt {
		t.Backup, err = readCopy(src, alt, true)
	}
	if err == nil && !t.Backup.Found {
		t.Backup, err = readCopy(src, backupAt, true)
	}
	if err != nil {
		return nil, err
	}
	return t, nil
}

// readsAsOther looks for a GPT header where one would stand if the disk's
// sectors were of the other size: it was made in another enclosure, or the
// image of it is read with the wrong size.
func readsAsOther(src block.Source) (bool, error) {
	at := int64(4096)
	if src.SectorSize() == 4096 {
		at = 512
	}
	if at+8 > src.Size() {
		return false, nil
	}
	whole := int64(src.SectorSize())
	raw, err := readSectors(src, at/whole*whole, whole)
	if err != nil {
		return false, fmt.Errorf("read at byte %d: %w", at, err)
	}
	return string(raw[at%whole:][:8]) == gptSignature, nil
}

func readCopy(src block.Source, lba uint64, backup bool) (Copy, error) {
	c := Copy{Backup: backup, LBA: lba}
	ss := int64(src.SectorSize())
	raw, err := readSectors(src, int64(lba)*ss, ss)
	if err != nil {
		return c, fmt.Errorf("read %s header at LBA %d: %w", c.Name(), lba, err)
	}
	c.rawHeader = raw
	c.Found = string(raw[hdrSignature:hdrSignature+8]) == gptSignature
	if !c.Found {
		c.add(Problem{
			ID:   "gpt-signature-missing",
			LBA:  lba,
			Want: fmt.Sprintf("%q", gptSignature),
			Got:  fmt.Sprintf("%q", raw[:8]),
			Text: "no header where the " + c.Name() + " should be",
		})
		return c, nil
	}
	c.Header = parseHeader(raw)
	if !c.checkHeader(raw) {
		return c, nil
	}
	return c, c.readEntries(src)
}

// checkHeader reports whether the header can be followed to the entries.
func (c *Copy) checkHeader(raw []byte) bool {
	h := c.Header
	if h.Size < minHeaderSize || int(h.Size) > len(raw) {
		c.add(Problem{
			ID:   "gpt-header-size",
			LBA:  c.LBA,
			Want: fmt.Sprintf("%d to %d bytes", minHeaderSize, len(raw)),
			Got:  fmt.Sprint(h.Size),
			Text: "the header says that it is of an impossible size",
		})
		return false
	}
	c.Computed.Header = headerCRC(raw, h.Size)
	if c.Computed.Header != h.CRC {
		c.add(Problem{
			ID:   "gpt-header-crc",
			LBA:  c.LBA,
			Want: fmt.Sprintf("0x%08x", c.Computed.Header),
			Got:  fmt.Sprintf("0x%08x", h.CRC),
			Text: fmt.Sprintf(
				"the %s header was altered: its CRC is 0x%08x, computed 0x%08x", c.Name(), h.CRC, c.Computed.Header,
			),
		})
	}
	if h.MyLBA != c.LBA {
		c.add(Problem{ID: "gpt-own-address", LBA: c.LBA, Want: fmt.Sprint(c.LBA), Got: fmt.Sprint(h.MyLBA),
			Text: fmt.Sprintf("the header says that it stands at LBA %d", h.MyLBA)})
	}
	bytes := uint64(h.EntryCount) * uint64(h.EntrySize)
	if h.EntrySize < minEntrySize || h.EntrySize%8 != 0 || bytes == 0 || bytes > maxEntryBytes {
		c.add(Problem{
			ID:   "gpt-entry-size",
			LBA:  c.LBA,
			Want: "entries of 128 bytes or more, 16 MiB of them at the most",
			Got:  fmt.Sprintf("%d entries of %d bytes", h.EntryCount, h.EntrySize),
			Text: "the header describes an impossible list of entries",
		})
		return false
	}
	return true
}

func (c *Copy) readEntries(src block.Source) error {
	h := c.Header
	ss := int64(src.SectorSize())
	length := int64(h.EntryCount) * int64(h.EntrySize)
	if h.EntryLBA > uint64(src.Size()/ss) || int64(h.EntryLBA)*ss+length > src.Size() {
		c.add(Problem{
			ID:   "gpt-entries-outside",
			LBA:  h.EntryLBA,
			Want: "within the disk",
			Got:  fmt.Sprintf("LBA %d", h.EntryLBA),
			Text: "the list of entries is said to lie beyond the end of the disk",
		})
		return nil
	}
	raw, err := readSectors(src, int64(h.EntryLBA)*ss, length)
	if err != nil {
		return fmt.Errorf("read %s entries at LBA %d: %w", c.Name(), h.EntryLBA, err)
	}
	c.rawEntries = raw
	c.Computed.Entries = crc32.ChecksumIEEE(raw)
	if c.Computed.Entries != h.EntryCRC {
		c.add(Problem{
			ID:   "gpt-entries-crc",
			LBA:  h.EntryLBA,
			Want: fmt.Sprintf("0x%08x", h.EntryCRC),
			Got:  fmt.Sprintf("0x%08x", c.Computed.Entries),
			Text: fmt.Sprintf(
				"the entries of the %s were altered: the header expects CRC 0x%08x, computed 0x%08x",
				c.Name(), h.EntryCRC, c.Computed.Entries,
			),
		})
	}
	c.Entries = parseEntries(raw, int(h.EntrySize))
	return nil
}

func (c *Copy) add(p Problem) {
	p.Part = c.Name()
	p.Severity = Broken
	c.Problems = append(c.Problems, p)
}

func readSectors(src io.ReaderAt, off, length int64) ([]byte, error) {
	raw := make([]byte, length)
	n, err := src.ReadAt(raw, off)
	if int64(n) == length {
		return raw, nil
	}
	return nil, err
}
