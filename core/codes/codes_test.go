package codes_test

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"syscall"
	"testing"

	"github.com/goccy/go-yaml"

	"diorthos/core/codes"
	shipped "diorthos/knowledge"
)

func table(t testing.TB) *codes.Table {
	t.Helper()
	names, err := fs.Glob(shipped.Files, "codes/*.yaml")
	if err != nil {
		t.Fatal(err)
	}
	var families []codes.Family
	for _, name := range names {
		raw, err := fs.ReadFile(shipped.Files, name)
		if err != nil {
			t.Fatal(err)
		}
		var f codes.Family
		if err := yaml.UnmarshalWithOptions(raw, &f, yaml.Strict()); err != nil {
			t.Fatalf("%s: %v", path.Base(name), err)
		}
		families = append(families, f)
	}
	tab, err := codes.NewTable(families)
	if err != nil {
		t.Fatal(err)
	}
	return tab
}

func TestParse(t *testing.T) {
	for in, want := range map[string]string{
		"28":            "28 decimal",
		"-28":           "-28 decimal",
		"0x1C":          "0x1c hexadecimal",
		"1Ch":           "0x1c hexadecimal",
		" 0x8007 0070 ": "0x80070070 hexadecimal",
		"8007000e":      "0x8007000e hexadecimal",
		"80070070":      "0x80070070 hexadecimal, 80070070 decimal",
		"-2147024784":   "-2147024784 decimal",
	} {
		values, err := codes.Parse(in)
		if err != nil {
			t.Errorf("%q: %v", in, err)
			continue
		}
		got := ""
		for i, v := range values {
			if i > 0 {
				got += ", "
			}
			got += fmt.Sprintf("%s %s", v, v.Form)
		}
		if got != want {
			t.Errorf("%q: got %s, want %s", in, got, want)
		}
	}
	for _, in := range []string{"", "zz", "0x", "--3", "0xfffffffffffffffff", "ab"} {
		if v, err := codes.Parse(in); err == nil {
			t.Errorf("%q was taken as %v", in, v)
		}
	}
}

// Go's own table of this system's error numbers is the oracle.
func TestErrorNumbersAreThoseOfTheKernel(t *testing.T) {
	tab := table(t)
	for n := int64(1); n < 134; n++ {
		text := syscall.Errno(n).Error()
		unknown := text == fmt.Sprintf("errno %d", n)
		for _, sign := range []int64{1, -1} {
			known := slices.IndexFunc(tab.Decode(codes.Value{
				Number: sign * n,
				Form:   codes.Decimal,
			}, ""), func(r codes.Reading) bool { return r.Family == "errno" }) >= 0
			if known == unknown {
				t.Errorf("%d: known %t, the system says %q", sign*n, known, text)
			}
		}
	}
}

func TestResultCodesFallIntoTheirFields(t *testing.T) {
	tab := table(t)
	for _, number := range []int64{0x80070070, -2147024784} { // the same 32 bits
		form := codes.Hex
		if number < 0 {
			form = codes.Decimal
		}
		list := tab.Decode(codes.Value{Number: number, Form: form}, "")
		if len(list) != 1 || list[0].Value != "0x80070070" {
			t.Fatalf("%d: %+v", number, list)
		}
		got := map[string]int64{}
		for _, p := range list[0].Parts {
			got[p.Name] = p.Value
		}
		if got["severity"] != 1 || got["customer"] != 0 || got["facility"] != 7 || got["code"] != 112 {
			t.Errorf("%d: %v", number, got)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"28", "0x80070070", "-5", "ffh"} {
		f.Add(s)
	}
	tab := table(f)
	f.Fuzz(func(t *testing.T, s string) {
		values, err := codes.Parse(s)
		if err != nil {
			return
		}
		for _, v := range values {
			tab.Decode(v, "")
			back, err := codes.Parse(v.String())
			if bits, ok := v.Bits(); ok && v.Form == codes.Hex && (err != nil || uint32(back[0].Number) != bits) {
				t.Errorf("%q is %v, which reads back as %v", s, v, back)
			}
		}
	})
}
