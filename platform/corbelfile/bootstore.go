package corbelfile

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"strings"
)

const bootHead = "corbel-boot-store 1"

// A BootEntry is what the boot store says: what the loader has to start.
type BootEntry struct {
	Volume string // serial of the system volume, as 1A2B-3C4D
	Kernel string // path on it
	Mode   string // normal or minimal
}

// Bytes writes the boot store.
func (e BootEntry) Bytes() []byte {
	body := fmt.Sprintf("%s\nvolume %s\nkernel %s\nmode %s\n", bootHead, e.Volume, e.Kernel, e.Mode)
	return []byte(fmt.Sprintf("%scrc %08x\n", body, crc32.ChecksumIEEE([]byte(body))))
}

// ReadBootStore reads it and refuses one that was damaged.
func ReadBootStore(raw []byte) (e BootEntry, err error) {
	i := bytes.LastIndex(raw, []byte("crc "))
	if i < 0 || !bytes.HasPrefix(raw, []byte(bootHead+"\n")) {
		return e, &FormatError{In: "corbel", What: "boot store", Want: bootHead + " … crc", Got: fmt.Sprintf("%.30q", raw)}
	}
	if want, got := fmt.Sprintf("crc %08x\n", crc32.ChecksumIEEE(raw[:i])), string(raw[i:]); want != got {
		return e, &FormatError{
			In:   "corbel",
			What: "boot store: crc",
			Want: strings.TrimSpace(want),
			Got:  fmt.Sprintf("%.20q", got),
		}
	}
	for _, line := range strings.Split(string(raw[:i]), "\n")[1:] {
		key, value, _ := strings.Cut(line, " ")
		switch key {
		case "volume":
			e.Volume = value
		case "kernel":
			e.Kernel = value
		case "mode":
			e.Mode = value
		}
	}
	return e, nil
}

// programMagics begin what can be run: loader, kernel, programs. The CRC-32 of
// all that follows stands behind them.
var programMagics = []string{"KSTN0", "KSTN1", "KEYSTONE", "CORBELKERNEL", "CORBELRUN"}

// Runs reports whether a program is what its own sum says.
func Runs(raw []byte) bool {
	for _, magic := range programMagics {
		if rest, ok := bytes.CutPrefix(raw, []byte(magic)); ok && len(rest) > 4 {
			return binary.LittleEndian.Uint32(rest) == crc32.ChecksumIEEE(rest[4:])
		}
	}
	return false
}
