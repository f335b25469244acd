package host

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"
)

// What is kept of a screen is its end, in lines of a bounded length, without what moves the cursor, and always text.
func TestTheEndOfAScreenIsKept(t *testing.T) {
	var lines []string
	for n := range 100 {
		lines = append(lines, fmt.Sprintf("[    %d.0] line %d", n, n))
	}
	lines = append(lines, "\x1b[1;31m[FAILED]\x1b[0m Failed to mount \x00data", strings.Repeat("ü", 5000),
		"cut \xff off", "grub> ")
	screen := screenOf(lines)
	if len(screen) != screenLines || !slices.Contains(screen, "[FAILED] Failed to mount data") ||
		screen[len(screen)-1] != "grub> " {
		t.Errorf("%d lines: %q", len(screen), screen[len(screen)-5:])
	}
	for _, l := range screen {
		if !utf8.ValidString(l) || utf8.RuneCountInString(l) > screenWidth+1 {
			t.Errorf("%.50q: %d characters", l, utf8.RuneCountInString(l))
		}
	}
	if screenOf(nil) != nil {
		t.Error("a screen that showed nothing")
	}
}
