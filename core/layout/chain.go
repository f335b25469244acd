package layout

import (
	"encoding/binary"
	"fmt"

	"diorthos/core/block"
)

// maxLogical bounds a chain of logical partitions.
const maxLogical = 128

// extended reports whether an entry holds a chain of logical partitions.
func extended(kind byte) bool { return kind == 0x05 || kind == 0x0f || kind == 0x85 }

// readChain follows the logical partitions inside an extended one. Each link
// is a record like sector 0: its first entry is a partition, counted from the
// link, its second the next link, counted from the start of the extended
// partition. What is wrong with the chain is noted as a problem.
func readChain(src block.Source, outer MBREntry) (list []MBREntry, problems []Problem, err error) {
	ss := int64(src.SectorSize())
	end := outer.First + outer.Sectors
	at := outer.First
	seen := map[uint64]bool{}
	bad := func(id ProblemID, text, want, got string) {
		problems = append(problems, Problem{
			ID:       id,
			Severity: Broken,
			Part:     fmt.Sprintf("logical partition %d", 5+len(list)),
			LBA:      at,
			Want:     want,
			Got:      got,
			Text:     text,
		})
	}
	for len(list) < maxLogical {
		if at < outer.First || at >= end || int64(at+1)*ss > src.Size() {
			bad(
				"logical-outside-extended", "the chain of logical partitions leaves the extended one",
				fmt.Sprintf("a link within LBA %d to %d", outer.First, end-1), fmt.Sprint(at),
			)
			return list, problems, nil
		}
		if seen[at] {
			bad(
				"logical-chain-loops", "the chain of logical partitions comes back to where it was", "a link not met before",
				fmt.Sprintf("LBA %d", at),
			)
			return list, problems, nil
		}
		seen[at] = true
		raw, err := readSectors(src, int64(at)*ss, ss)
		if err != nil {
			return list, problems, fmt.Errorf("read the logical partition at LBA %d: %w", at, err)
		}
		if raw[mbrSignature] != 0x55 || raw[mbrSignature+1] != 0xaa {
			bad(
				"logical-chain-broken",
				"a link of the chain is no partition record: the logical partitions from here on are lost", "55 aa at its end",
				fmt.Sprintf("%02x %02x", raw[mbrSignature], raw[mbrSignature+1]),
			)
			return list, problems, nil
		}
		first, next := parseMBREntry(raw, 0), parseMBREntry(raw, 1)
		if first.Type != 0 && first.Sectors != 0 {
			first.Index, first.Link = 5+len(list), at
			first.First += at
			if first.First+first.Sectors > end {
				bad(
					"logical-outside-extended", fmt.Sprintf("logical partition %d reaches beyond the extended one", first.Index),
					fmt.Sprintf("an end at LBA %d or before", end-1), fmt.Sprint(first.First+first.Sectors-1),
				)
			}
			list = append(list, first)
		}
		if next.Type == 0 || next.Sectors == 0 {
			return list, problems, nil
		}
		at = outer.First + next.First
	}
	bad(
		"logical-chain-loops", "the chain of logical partitions does not end", fmt.Sprintf("at most %d", maxLogical), "more",
	)
	return list, problems, nil
}

func parseMBREntry(raw []byte, i int) MBREntry {
	le := binary.LittleEndian
	b := raw[mbrEntries+i*mbrEntrySize:]
	return MBREntry{
		Index:   i + 1,
		Active:  b[0] == mbrActiveFlag,
		Flag:    b[0],
		Type:    b[4],
		First:   uint64(le.Uint32(b[8:])),
		Sectors: uint64(le.Uint32(b[12:])),
	}
}

// mbrTypes are the names of the types of MBR entries that matter to us.
var mbrTypes = map[byte]string{
	0x01: "FAT12", 0x04: "FAT16", 0x05: "extended", 0x06: "FAT16", 0x07: "basic data", 0x0b: "FAT32", 0x0c: "FAT32",
	0x0e: "FAT16", 0x0f: "extended",
	0x82: "Linux swap", 0x83: "Linux data", 0x85: "extended",
	0x8e: "LVM physical volume", 0xee: "protective", 0xef: "EFI system", 0xfd: "RAID member",
}

// gptType maps the type of an MBR entry to that of a GPT one, and back.
var gptType = map[byte]GUID{
	0x01: TypeBasicData,
	0x04: TypeBasicData,
	0x06: TypeBasicData,
	0x07: TypeBasicData,
	0x0b: TypeBasicData,
	0x0c: TypeBasicData,
	0x0e: TypeBasicData,
	0x82: TypeSwap,
	0x83: TypeLinux,
	0x8e: TypeLVM,
	0xef: TypeESP,
	0xfd: TypeRAID,
}

var mbrType = map[GUID]byte{
	TypeESP:       0xef,
	TypeLinux:     0x83,
	TypeLinuxRoot: 0x83,
	TypeXBootLdr:  0x83,
	TypeHome:      0x83,
	TypeSwap:      0x82,
	TypeLVM:       0x8e,
	TypeRAID:      0xfd,
	TypeBasicData: 0x07,
}

// MBRTypeName is the trade's name of the type of an MBR entry, or its number.
func MBRTypeName(kind byte) string {
	if name, ok := mbrTypes[kind]; ok {
		return name
	}
	return fmt.Sprintf("type 0x%02x", kind)
}
