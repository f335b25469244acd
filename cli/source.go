package cli

import (
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"diorthos/core/block"
	"diorthos/core/store"
	"diorthos/core/system"
	"diorthos/core/volumes"
	"diorthos/host"
	"diorthos/platform"
)

func sourceFlag() cli.Flag {
	return &cli.StringSliceFlag{
		Name: "source",
		Usage: "where missing components may come from: a `MEDIUM` (file), a healthy twin (machine's folder or disk), or " +
			"the vendor's service (address); once more for each further one",
	}
}

// componentSources opens what --source names. Which of them are of the right build is
// for the repair to say.
func componentSources(names []string, build int, keys *volumes.Keys) (list []store.Source, err error) {
	for _, name := range names {
		s, err := source(name, build, keys)
		if err != nil {
			return nil, fmt.Errorf("--source %s: %w", name, err)
		}
		list = append(list, s)
	}
	return list, nil
}

func source(name string, build int, keys *volumes.Keys) (store.Source, error) {
	suppliers := suppliersOf(platform.All())
	if strings.HasPrefix(name, "http://") || strings.HasPrefix(name, "https://") {
		for _, s := range suppliers {
			return s.Service(name, build), nil
		}
	}
	info, err := os.Stat(name)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		raw, err := readMedium(name, info.Size())
		if err != nil {
			return nil, err
		}
		for _, s := range suppliers {
			if src, ok, err := s.Medium(name, raw); ok || err != nil {
				return src, err
			}
		}
	}
	if info.IsDir() && host.Locate(name).Disk == name { // the folder of a system's files
		return twin(suppliers, filepath.Base(name), os.DirFS(name))
	}
	volume, err := host.SystemVolume(host.Locate(name).Disk, platform.All(), keys)
	if err != nil {
		return nil, err
	}
	return twin(suppliers, "the twin "+filepath.Base(name), volume)
}

// readText reads a file that a person wrote, of at most so many bytes.
func readText(name string, most int64) ([]byte, error) {
	f, err := block.OpenRegular(name, os.O_RDONLY)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }() // it was only read
	text, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(text)) > most {
		err = fmt.Errorf("%s: has more than %s: this is no text that a person wrote", name, size(most))
	}
	return text, err
}

// maxMedium is the size of the largest install medium that is read whole, in
// bytes; a larger file is taken for a disk.
const maxMedium = 1 << 30

func readMedium(name string, size int64) ([]byte, error) {
	if size > maxMedium || filepath.Ext(name) == ".img" {
		return nil, nil
	}
	return os.ReadFile(name)
}

func twin(suppliers []system.Supplier, name string, volume fs.FS) (store.Source, error) {
	failed := fmt.Errorf("%s: no family of systems takes components from there", name)
	for _, s := range suppliers {
		src, err := s.Twin(name, volume)
		if err == nil {
			return src, nil
		}
		failed = err
	}
	return nil, failed
}

func suppliersOf(adapters []system.Adapter) (list []system.Supplier) {
	for _, a := range adapters {
		if s, ok := a.(system.Supplier); ok {
			list = append(list, s)
		}
	}
	return list
}
