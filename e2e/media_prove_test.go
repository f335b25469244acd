//go:build prove

package e2e

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

const grubMenu = `serial --unit=0 --speed=115200
terminal_output serial
set timeout=0
menuentry start { echo "the medium has started by $grub_platform"; sleep 3; halt }
`

// starts runs a disk in QEMU and waits for words on its serial line.
func starts(t *testing.T, disk, firmware, words string) {
	t.Helper()
	startsBy(t, disk, "ide", firmware, words)
}

// startsBy is starts with the disk on another bus.
func startsBy(t *testing.T, disk, bus, firmware, words string) {
	t.Helper()
	args := []string{
		"-accel", "tcg", "-m", "512", "-display", "none", "-serial", "stdio", "-no-reboot", "-net", "none", "-drive",
		"file=" + disk + ",format=raw,if=" + bus,
	}
	if firmware == "uefi" {
		vars := filepath.Join(t.TempDir(), "vars.fd")
		raw, err := os.ReadFile("/usr/share/OVMF/OVMF_VARS_4M.fd")
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(vars, raw, 0o600); err != nil {
			t.Fatal(err)
		}
		args = append(
			args, "-machine", "q35", "-drive", "if=pflash,format=raw,readonly=on,file=/usr/share/OVMF/OVMF_CODE_4M.fd",
			"-drive", "if=pflash,format=raw,file="+
				vars,
		)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "qemu-system-x86_64", args...)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	if !strings.Contains(out.String(), words) {
		t.Errorf("%s: %v: the serial line says:\n%s", firmware, err, out.String())
	}
}

// A written medium starts under SeaBIOS and under OVMF; one whose files alone
// were copied starts under OVMF.
func TestProveThatAWrittenMediumStarts(t *testing.T) {
	dir := t.TempDir()
	tree := filepath.Join(dir, "tree")
	if err := os.MkdirAll(filepath.Join(tree, "boot/grub"), 0o755); err != nil {
		t.Fatal(err)
	}
	menu := filepath.Join(tree, "boot/grub/grub.cfg")
	if err := os.WriteFile(menu, []byte(grubMenu), 0o644); err != nil {
		t.Fatal(err)
	}
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	stick := func() string {
		path := filepath.Join(t.TempDir(), "stick.img")
		if err := os.WriteFile(path, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Truncate(path, 128<<20); err != nil {
			t.Fatal(err)
		}
		return path
	}
	hybrid := filepath.Join(dir, "hybrid.iso")
	witness(t, "grub-mkrescue", "-o", hybrid, tree)
	for firmware, words := range map[string]string{"bios": "started by pc", "uefi": "started by efi"} {
		to := stick()
		wants(t, s.must(0, "media", "write", "--to", to, "--firmware", firmware, hybrid), "as it is", "read back")
		starts(t, to, firmware, words)
	}

	// Made for discs alone: only its files can be used, and only by UEFI.
	if err := os.MkdirAll(filepath.Join(tree, "EFI/BOOT"), 0o755); err != nil {
		t.Fatal(err)
	}
	witness(
		t, "grub-mkstandalone", "-O", "x86_64-efi", "-o", filepath.Join(tree, "EFI/BOOT/BOOTX64.EFI"),
		"boot/grub/grub.cfg="+
			menu,
	)
	plain := filepath.Join(dir, "plain.iso")
	witness(t, "xorriso", "-as", "mkisofs", "-quiet", "-R", "-V", "PLAIN", "-o", plain, tree)
	to := stick()
	wants(t, s.must(0, "media", "write", "--to", to, "--firmware", "uefi", plain), "files on FAT", "read back")
	witness(t, "sgdisk", "--verify", to)
	starts(t, to, "uefi", "started by efi")
	if r := s.run("media", "write", "--to", stick(), "--firmware", "bios", plain); r.status != 2 ||
		!strings.Contains(r.errout, "no boot code") {
		t.Errorf("%+v", r)
	}
}
