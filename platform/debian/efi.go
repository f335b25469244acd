package debian

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"regexp"

	"diorthos/platform/grub"
)

// EFI programs, by their bytes: the image format of the UEFI specification (2.10, section
// 2.1.1, which takes PE32+).
const (
	peOffset       = 0x3c // where the offset of the PE header stands
	peSections     = 6    // number of sections, from the PE header
	peOptionalSize = 20
	peHeader       = 24 // bytes before the optional header
	sectionSize    = 40
	sectionLength  = 16 // size in the file, from the start of a section's header
	sectionAt      = 20 // place in the file

	maxEFIProgram = 64 << 20
)

var machines = map[uint16]string{0x8664: "x64", 0xaa64: "aa64"}

// machineOf is for which machines an EFI program is, by the letters that its name has in
// the fallback path. An error says why it cannot run.
func machineOf(raw []byte) (string, error) {
	le := binary.LittleEndian
	if len(raw) < 0x40 || raw[0] != 'M' || raw[1] != 'Z' {
		return "", errors.New("it does not begin as an EFI program")
	}
	at := int64(le.Uint32(raw[peOffset:]))
	if at+peHeader > int64(len(raw)) || string(raw[at:at+4]) != "PE\x00\x00" {
		return "", errors.New("it has no header of an EFI program")
	}
	machine, ok := machines[le.Uint16(raw[at+4:])]
	if !ok {
		return "", fmt.Errorf("it is for machines of the type 0x%04x", le.Uint16(raw[at+4:]))
	}
	first := at + peHeader + int64(le.Uint16(raw[at+peOptionalSize:]))
	for i := range int64(le.Uint16(raw[at+peSections:])) {
		s := first + i*sectionSize
		if s+sectionSize > int64(len(raw)) {
			return "", errors.New("it is cut off in its header")
		}
		if end := int64(le.Uint32(raw[s+sectionAt:])) + int64(le.Uint32(raw[s+sectionLength:])); end > int64(len(raw)) {
			return "", fmt.Errorf("it is cut off: a part of it ends at byte %d, and it has %d", end, len(raw))
		}
	}
	return machine, nil
}

// A program is what an EFI program is, by its content.
type program struct {
	machine string
	kind    programKind
	// config and prefix are what GRUB was given when it was put together: the commands it
	// runs first, and where its files are.
	config, prefix string
}

// A programKind is which program it is.
type programKind string

const (
	isGRUB        programKind = "GRUB"
	isShim        programKind = "shim"
	isSystemdBoot programKind = "systemd-boot"
	isUnknown     programKind = "a program that is not known"
)

// identify says what an EFI program is.
func identify(raw []byte) (program, error) {
	machine, err := machineOf(raw)
	if err != nil {
		return program{}, err
	}
	p := program{machine: machine, kind: isUnknown}
	carried, isCore := grub.Carries(raw, 8)
	switch {
	case bytes.Contains(raw, []byte("LoaderInfo: systemd-boot")):
		p.kind = isSystemdBoot
	case isCore:
		p.kind, p.config, p.prefix = isGRUB, carried.Config, carried.Prefix
	case bytes.Contains(raw, []byte("UEFI SHIM")):
		p.kind = isShim
	}
	return p, nil
}

// readProgram reads an EFI program of a volume and says what it is.
func readProgram(volume fs.FS, name string) (program, []byte, error) {
	info, err := fs.Stat(volume, name)
	if err != nil {
		return program{}, nil, err
	}
	if info.Size() > maxEFIProgram {
		return program{}, nil, fmt.Errorf("%s: %d bytes: no loader is so large", name, info.Size())
	}
	raw, err := fs.ReadFile(volume, name)
	if err != nil {
		return program{}, nil, err
	}
	p, err := identify(raw)
	if err != nil {
		return p, nil, fmt.Errorf("%s: %w", name, err)
	}
	return p, raw, nil
}

var searchLine = regexp.MustCompile(
	`(?m)^\s*search(?:\.fs_uuid|\s+(?:\S+\s+)*--fs-uuid(?:\s+--\S+)*)\s+(?:--\S+\s+)*([0-9A-Fa-f-]{9,})`,
)

// volumeIn is the volume that the first commands of GRUB look for by its UUID.
func volumeIn(config string) string {
	if m := searchLine.FindStringSubmatch(config); m != nil {
		return m[1]
	}
	return ""
}
