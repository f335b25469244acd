package corbel

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"diorthos/core/block"
	"diorthos/core/fat"
	"diorthos/core/layout"
	"diorthos/platform/corbelfile"
)

// Labels of the volumes that every machine has.
const (
	labelBoot   = "KEYSTONE"
	labelSystem = "CORBEL"
	labelPlans  = "PLANS"
)

// A Machine is a folder with a disk image and a nameplate.
type Machine struct {
	Folder string
	Plate  *corbelfile.Plate
}

// Open opens the machine in a folder.
func Open(folder string) (*Machine, error) {
	raw, err := os.ReadFile(filepath.Join(folder, corbelfile.PlateName))
	if err != nil {
		return nil, fmt.Errorf("open machine: %w", err)
	}
	p, err := corbelfile.ReadPlate(raw)
	if err != nil {
		return nil, fmt.Errorf("open machine %s: %w", folder, err)
	}
	return &Machine{folder, p}, nil
}

// Disk is the path of the disk image.
func (m *Machine) Disk() string { return filepath.Join(m.Folder, corbelfile.DiskName) }

// SavePlate writes the nameplate in place.
func (m *Machine) SavePlate() error {
	raw, err := m.Plate.Bytes()
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(m.Folder, corbelfile.PlateName), raw, 0o600)
}

// volumes are the machine's volumes, opened over a draft of the disk.
type volumes struct {
	draft *block.Draft
	table *layout.Table
	parts []layout.Partition
	sys   *fat.Editor
	boot  *fat.Editor // the loader's, found by its label
}

// mount opens the volumes. What is missing or damaged stays nil.
func (m *Machine) mount(dev block.Source, now time.Time) (*volumes, error) {
	v := &volumes{draft: block.NewDraft(&worn{dev, m.Plate.Wear.Unreadable})}
	var err error
	if v.table, err = layout.Read(v.draft); err != nil {
		return nil, err
	}
	v.parts = v.table.Partitions()
	for _, p := range v.parts {
		e, err := fat.Edit(block.NewWriteRange(v.draft, p.Off, p.Length), now)
		if err != nil {
			continue
		}
		switch strings.TrimSpace(e.Label) {
		case labelSystem:
			v.sys = e
		case labelBoot:
			v.boot = e
		}
	}
	return v, nil
}

// change does f to the volumes and keeps what it did, or nothing.
func (m *Machine) change(now time.Time, f func(*volumes) error) (err error) {
	dev, err := block.OpenImage(m.Disk(), 512, false)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	v, err := m.mount(dev, now)
	if err != nil {
		return err
	}
	if v.sys == nil {
		return fmt.Errorf("machine %s: no system volume can be read", m.Plate.Name)
	}
	if err := f(v); err != nil {
		return err
	}
	return v.keep(dev)
}

func (v *volumes) keep(dev block.Device) error {
	writes, err := v.draft.Writes()
	if err != nil {
		return err
	}
	for _, w := range writes {
		if _, err := dev.WriteAt(w.Data, w.Off); err != nil {
			return err
		}
	}
	return nil
}

// worn is a disk of which some sectors cannot be read.
type worn struct {
	block.Source
	bad []int64
}

func (w *worn) ReadAt(p []byte, off int64) (int, error) {
	for _, lba := range w.bad {
		if at := lba * 512; at < off+int64(len(p)) && at+512 > off {
			return 0, fmt.Errorf("read error at LBA %d", lba)
		}
	}
	return w.Source.ReadAt(p, off)
}

// state reads one JSON file of the system volume.
func state[T any](sys fs.FS, name string) (v T, err error) {
	raw, err := fs.ReadFile(sys, name)
	if err != nil {
		return v, err
	}
	return v, corbelfile.Decode(name, raw, &v)
}

// put writes a file and the folders above it.
func put(e *fat.Editor, name string, data []byte) error {
	if err := e.Mkdir(filepath.Dir(name)); err != nil {
		return err
	}
	return e.WriteFile(name, data)
}

func putState(e *fat.Editor, name string, v any) error { return put(e, name, corbelfile.Encode(v)) }

// settings reads the tree.
func settings(sys fs.FS) (*corbelfile.Tree, error) {
	raw, err := fs.ReadFile(sys, corbelfile.SettingsPath)
	if err != nil {
		return nil, err
	}
	return corbelfile.ReadTree(raw)
}

// UserFiles are the hashes of all files of all users, by their paths: what no
// repair may ever change. PLANS, a volume of its own, belongs to them.
func (m *Machine) UserFiles() (list map[string]string, err error) {
	dev, err := block.OpenImage(m.Disk(), 512, true)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	table, err := layout.Read(dev)
	if err != nil {
		return nil, err
	}
	list = map[string]string{}
	for _, p := range table.Partitions() {
		v, err := fat.Open(block.NewReadRange(dev, p.Off, p.Length))
		if err != nil {
			continue
		}
		root := map[string]string{labelSystem: corbelfile.UsersFolder, labelPlans: "."}[strings.TrimSpace(v.Label)]
		if root == "" {
			continue
		}
		err = fs.WalkDir(v, root, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			raw, err := fs.ReadFile(v, name)
			sum := sha256.Sum256(raw)
			list[strings.TrimSpace(v.Label)+"/"+name] = hex.EncodeToString(sum[:])
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	return list, nil
}

// Digest is a hash of the disk, the nameplate and the medium: of every stretch
// of them that is not zero, with its place.
func (m *Machine) Digest() (string, error) {
	h := sha256.New()
	names, err := filepath.Glob(filepath.Join(m.Folder, "*"))
	if err != nil {
		return "", err
	}
	sort.Strings(names)
	for _, name := range names {
		switch filepath.Ext(name) {
		case ".img", ".json", ".pack":
		default:
			continue // a picture of the screen, journals and the like
		}
		err := blocks(name, func(at int64, data []byte) error {
			_, err := fmt.Fprintf(h, "%s %d %d\n", filepath.Base(name), at, len(data))
			_, _ = h.Write(data) // never fails
			return err
		})
		if err != nil {
			return "", err
		}
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// Copy makes the same machine in another folder.
func (m *Machine) Copy(folder string) (*Machine, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	names, err := filepath.Glob(filepath.Join(m.Folder, "*"))
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		switch filepath.Ext(name) {
		case ".img", ".json", ".pack", ".txt":
			if err := copySparse(filepath.Join(folder, filepath.Base(name)), name); err != nil {
				return nil, err
			}
		}
	}
	return Open(folder)
}

// copySparse leaves out what is zero.
func copySparse(to, from string) (err error) {
	info, err := os.Stat(from)
	if err != nil {
		return err
	}
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, out.Close()) }()
	if err := out.Truncate(info.Size()); err != nil {
		return err
	}
	return blocks(from, func(at int64, data []byte) error {
		_, err := out.WriteAt(data, at)
		return err
	})
}

var zeros [64 << 10]byte

// blocks calls f for every stretch of a file that is not zero.
func blocks(name string, f func(at int64, data []byte) error) (err error) {
	in, err := os.Open(name)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, in.Close()) }()
	buf := make([]byte, len(zeros))
	for at := int64(0); ; at += int64(len(buf)) {
		n, err := io.ReadFull(in, buf)
		if n > 0 && !bytes.Equal(buf[:n], zeros[:n]) {
			if err := f(at, buf[:n]); err != nil {
				return err
			}
		}
		if err == io.EOF || errors.Is(err, io.ErrUnexpectedEOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// Payloads are the files of the component store, by their names.
func (m *Machine) Payloads() (list map[string][]byte, err error) {
	list = map[string][]byte{}
	err = m.change(time.Time{}, func(v *volumes) error {
		names, err := fs.Glob(v.sys, corbelfile.PayloadFolder+"/*")
		for _, name := range names {
			raw, err := fs.ReadFile(v.sys, name)
			if err != nil {
				return err
			}
			list[filepath.Base(name)] = raw
		}
		return err
	})
	return list, err
}
