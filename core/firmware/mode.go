package firmware

import (
	"fmt"
	"strings"
)

// A Mode is how a firmware starts a disk. The zero value means that it is not
// known.
type Mode string

// The modes.
const (
	UEFI Mode = "uefi" // a program on the EFI system partition
	BIOS Mode = "bios" // the code in sector 0
)

// Modes lists those that there are.
func Modes() []Mode { return []Mode{UEFI, BIOS} }

// ParseMode reads a mode, in any case; nothing is the mode that is not known.
func ParseMode(s string) (Mode, error) {
	switch m := Mode(strings.ToLower(s)); m {
	case "", UEFI, BIOS:
		return m, nil
	}
	return "", fmt.Errorf("firmware mode %q: want uefi or bios", s)
}
