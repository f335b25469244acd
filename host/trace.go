package host

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"os"

	"diorthos/core/system"
)

// Trace says in short what attempts and starts have left on a machine, without reading any of it: it differs when
// something was tried since, and stands still when that has ended. It is empty where that cannot be told, as of a
// whole device.
func Trace(o GatherOptions) string {
	sum := sha256.New()
	note := func(name string, info fs.FileInfo, err error) {
		if err == nil {
			_, _ = fmt.Fprintf(sum, "%s %d %d\n", name, info.Size(), info.ModTime().UnixNano())
		}
	}
	root := o.Root
	switch {
	case o.Image != "":
		at := Locate(o.Image)
		info, err := os.Stat(at.Disk)
		if err != nil || !info.Mode().IsRegular() {
			return ""
		}
		note(at.Disk, info, nil)
		if at.Firmware != "" {
			info, err := os.Stat(at.Firmware)
			note(at.Firmware, info, err)
		}
		return hex.EncodeToString(sum.Sum(nil))
	case root == "" && o.Live:
		root = "/"
		_, _ = fmt.Fprintln(sum, Boot())
	case root == "":
		return ""
	}
	fsys := os.DirFS(root)
	a, _, ok := system.FindOn(o.Adapters, fsys)
	if !ok {
		return ""
	}
	for _, name := range traces(a, fsys) {
		info, err := fs.Stat(fsys, name)
		note(name, info, err)
	}
	return hex.EncodeToString(sum.Sum(nil))
}

func traces(a system.Adapter, fsys fs.FS) []string {
	if t, ok := a.(system.Traced); ok {
		return t.Traces(fsys)
	}
	return a.Logs(fsys)
}

// Hardware tells this machine's hardware from that of another one, as a digest: by the numbers that the firmware gives,
// which a copied disk does not bring along. It is empty where there are none.
func Hardware() string {
	sum, any := sha256.New(), false
	for _, name := range []string{"product_uuid", "product_serial", "board_serial"} {
		if text := readLine("/sys/class/dmi/id/" + name); text != "" {
			any = true
			_, _ = fmt.Fprintln(sum, name, text)
		}
	}
	if !any {
		return ""
	}
	return hex.EncodeToString(sum.Sum(nil))
}
