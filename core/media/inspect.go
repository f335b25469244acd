package media

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"diorthos/core/block"
	"diorthos/core/fat"
	"diorthos/core/firmware"
	"diorthos/core/iso"
	"diorthos/core/layout"
)

// A Medium is what an image is, by what is on it.
type Medium struct {
	Title        string          `json:"title"`
	Label        string          `json:"label"`
	Release      string          `json:"release,omitempty"` // version, where it says so
	Architecture string          `json:"architecture,omitempty"`
	Size         int64           `json:"size"`           // bytes
	Disc         []firmware.Mode `json:"disc"`           // modes that start it from an optical disc
	Stick        []firmware.Mode `json:"stick"`          // modes that start it when it is copied to a stick as it is
	How          []string        `json:"how"`            // each with what is started
	Files        bool            `json:"files"`          // UEFI starts it when its files alone are copied to FAT
	Largest      int64           `json:"largest"`        // bytes of the largest file
	Note         string          `json:"note,omitempty"` // what cannot be told from the image alone
	Total        int64           `json:"total"`          // bytes of all files

	// FS is what is on it.
	FS fs.FS `json:"-"`
}

// Modes are those in which it starts, whatever it is written to.
func (m *Medium) Modes() []firmware.Mode {
	list := slices.Concat(m.Disc, m.Stick)
	if m.Files {
		list = append(list, firmware.UEFI)
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// inspectStick reads a stick to which the files of an image were written.
func inspectStick(src block.Source, noDisc error) (*Medium, error) {
	m := &Medium{Size: src.Size(), Disc: []firmware.Mode{}, Stick: []firmware.Mode{}, How: []string{}}
	m.asStick(src)
	if m.FS == nil {
		return nil, fmt.Errorf("%w, and no stick with a loader: %w", ErrNotAMedium, noDisc)
	}
	m.Title = m.Label
	m.describe(m.FS)
	m.How = slices.Compact(m.How)
	return m, nil
}

// ErrNotAMedium means that an image is no ISO 9660 image.
var ErrNotAMedium = errors.New("not an install image")

// loaders are the files that UEFI starts on a medium, with the architecture
// that each is for.
var loaders = map[string]string{
	"bootx64.efi":     "amd64",
	"bootaa64.efi":    "arm64",
	"bootia32.efi":    "i386",
	"bootarm.efi":     "armhf",
	"bootriscv64.efi": "riscv64",
}

// Inspect reads an image: its files, its boot catalogue, and the tables that
// make it start from a stick.
func Inspect(src block.Source) (*Medium, error) {
	disc, err := iso.Open(src)
	if err != nil {
		return inspectStick(src, err)
	}
	m := &Medium{
		Title: disc.Label,
		Label: disc.Label,
		Size:  src.Size(),
		Disc:  []firmware.Mode{},
		Stick: []firmware.Mode{},
		How:   []string{},
		FS:    disc,
	}
	for _, e := range disc.Boot {
		mode, err := firmware.ParseMode(e.Platform)
		if err == nil && e.Bootable && !slices.Contains(m.Disc, mode) {
			m.Disc = append(m.Disc, mode)
			m.How = append(m.How, fmt.Sprintf("disc, %s: boot catalogue entry at sector %d of 2048 bytes", e.Platform, e.LBA))
		}
	}
	m.asStick(src)
	m.describe(disc)
	return m, nil
}

// asStick looks at the image as a stick shows it to a firmware.
func (m *Medium) asStick(src block.Source) {
	table, err := layout.Read(src)
	if err != nil {
		return
	}
	if table.MBR.Signed && table.MBR.HasCode {
		m.Stick = append(m.Stick, firmware.BIOS)
		m.How = append(m.How, "stick, bios: boot code in sector 0")
	}
	parts := table.Partitions()
	for _, e := range table.MBR.Entries { // hybrid images list the same in both
		if e.Type == 0xef {
			parts = append(parts, layout.Partition{
				Number: e.Index,
				Type:   "EFI system",
				Off:    int64(e.First) * int64(table.SectorSize),
				Length: int64(e.Sectors) * int64(table.SectorSize),
			})
		}
	}
	for _, p := range parts {
		if p.Type != "EFI system" && p.Type != "basic data" {
			continue
		}
		v, err := fat.Open(block.NewReadRange(src, p.Off, p.Length))
		if err != nil {
			continue
		}
		if name, arch := loaderOn(v); name != "" {
			if !slices.Contains(m.Stick, firmware.UEFI) {
				m.Stick = append(m.Stick, firmware.UEFI)
				m.How = append(m.How, fmt.Sprintf("stick, uefi: %s on partition %d", name, p.Number))
			}
			m.Architecture = arch
			if m.FS == nil {
				m.FS, m.Label = v, layout.Recognise(block.NewReadRange(src, p.Off, p.Length)).Label
			}
		}
	}
}

// loaderOn finds what UEFI starts from a file system.
func loaderOn(fsys fs.FS) (name, arch string) {
	list, err := fs.ReadDir(fsys, "EFI/BOOT")
	if err != nil {
		return "", ""
	}
	for _, e := range list {
		if arch, ok := loaders[strings.ToLower(e.Name())]; ok {
			return path.Join("EFI/BOOT", e.Name()), arch
		}
	}
	return "", ""
}

// describe takes title, release and architecture from what is on the disc.
func (m *Medium) describe(disc fs.FS) {
	if text, err := readSome(disc, ".disk/info"); err == nil {
		m.Title = strings.TrimSpace(text)
		for _, arch := range []string{"amd64", "arm64", "i386", "armhf", "ppc64el", "riscv64", "s390x"} {
			if strings.Contains(m.Title, arch) {
				m.Architecture = arch
			}
		}
	}
	if name, arch := loaderOn(disc); name != "" {
		m.Files = true
		m.How = append(m.How, "files on FAT, uefi: "+name)
		if m.Architecture == "" {
			m.Architecture = arch
		}
	}
	seen := 0
	_ = fs.WalkDir(disc, ".", func(_ string, e fs.DirEntry, err error) error {
		if seen++; err != nil || seen > 200_000 {
			return fs.SkipAll
		}
		if info, err := e.Info(); err == nil && info.Mode().IsRegular() {
			m.Total += info.Size()
			m.Largest = max(m.Largest, info.Size())
		}
		return nil
	})
}

// readSome reads the beginning of a small file.
func readSome(fsys fs.FS, name string) (string, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return "", err
	}
	defer func() { _ = f.Close() }() // it was only read
	text, err := io.ReadAll(io.LimitReader(f, 4096))
	return string(text), err
}
