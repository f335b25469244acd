package fat_test

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"diorthos/core/fat"
)

func TestFsckAcceptsWhatWeFormat(t *testing.T) {
	for _, size := range []int64{34 << 20, 64 << 20, 100<<20 + 512*37, 260 << 20, 1 << 30, 9 << 30, 40 << 30} {
		path := filepath.Join(t.TempDir(), "volume")
		f, err := os.Create(path)
		if err != nil {
			t.Fatal(err)
		}
		err = f.Truncate(size)
		if err == nil {
			err = fat.Format(f, size, fat.Options{Label: "esp", Serial: 0x5ca1ab1e})
		}
		if err := errors.Join(err, f.Close()); err != nil {
			t.Fatalf("%d bytes: %v", size, err)
		}
		out, err := exec.Command("fsck.fat", "-n", "-v", path).CombinedOutput()
		if err != nil || !strings.Contains(string(out), "32 bits/entry") && !strings.Contains(string(out), "32 bit entries") {
			t.Errorf("%d bytes: %v\n%s", size, err, out)
		}
		if strings.Contains(string(out), "differences") || strings.Contains(string(out), "wrong") {
			t.Errorf("%d bytes:\n%s", size, out)
		}
		if err := os.Remove(path); err != nil {
			t.Fatal(err)
		}
	}
}

func TestFsckAcceptsTheSmallerKinds(t *testing.T) {
	for _, c := range []struct {
		bits int
		size int64
	}{
		{12, 360 << 10},
		{12, 1440 << 10},
		{12, 30 << 20},
		{16, 3 << 20},
		{16, 33 << 20},
		{16, 500<<20 + 512*3},
		{16, 2 << 30},
	} {
		path := filepath.Join(t.TempDir(), "volume")
		f, err := os.Create(path)
		if err != nil {
			t.Fatal(err)
		}
		err = f.Truncate(c.size)
		if err == nil {
			err = fat.Format(f, c.size, fat.Options{Label: "small", Serial: 7, Bits: c.bits})
		}
		if err != nil {
			t.Fatalf("%+v: %v", c, err)
		}
		out, err := exec.Command("fsck.fat", "-n", "-v", path).CombinedOutput()
		if err != nil ||
			!strings.Contains(string(out), fmt.Sprintf("%d bits/entry", c.bits)) &&
				!strings.Contains(string(out), fmt.Sprintf("%d bit entries", c.bits)) {
			t.Errorf("%+v: %v\n%s", c, err, out)
		}
		if report, err := fat.Check(f); err != nil || len(report.Findings) != 0 {
			t.Errorf("%+v: %v %+v", c, err, report)
		}
		if err := f.Close(); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []fat.Options{{Bits: 12}, {Bits: 7}} {
		if err := fat.Format(nil, 900<<20, c); err == nil {
			t.Errorf("%+v: made", c)
		}
	}
}

func TestFormatRefusesWhatCannotBe(t *testing.T) {
	var want *fat.FormatError
	for name, c := range map[string]struct {
		size  int64
		label string
	}{
		"too small":       {20 << 20, ""},
		"label too long":  {64 << 20, "a label of many letters"},
		"label not ASCII": {64 << 20, "Öst"},
	} {
		if err := fat.Format(nil, c.size, fat.Options{Label: c.label}); !errors.As(err, &want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
