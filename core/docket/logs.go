package docket

import (
	"io"
	"os"
	"path/filepath"

	"diorthos/core/bag"
	"diorthos/core/reading"
)

// Logs are the logs of a bag that was unpacked in dir, with their size in
// bytes together. The raw ends of disks are left out.
func Logs(info *bag.Info, dir string) (logs []reading.Source, total int64) {
	for _, f := range info.Files {
		if filepath.Ext(f.Name) == ".bin" {
			continue
		}
		total += f.Size
		logs = append(logs, reading.Source{
			Name: f.Name,
			Size: f.Size,
			Open: func() (io.ReadCloser, error) { return os.Open(filepath.Join(dir, filepath.FromSlash(f.Name))) },
		})
	}
	return logs, total
}
