package host

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// How a start ends is told by what the serial console prints, in whatever pieces it comes.
func TestHowAStartEndsIsToldByItsConsole(t *testing.T) {
	for text, want := range map[string]RehearsalEnd{
		"Loading Linux 6.1.0 ...\r\n[    1.2] Run /init\r\n\r\nquay-4 login: ":                               EndLogin,
		"\x1b[2J\x1b[1;1HDebian GNU/Linux 12 quay-4 ttyS0\r\n\r\nquay-4 login: ":                             EndLogin,
		"You are in emergency mode. After logging in, type \"journalctl -xb\"\r\n":                           EndEmergency,
		"[    3.1] Kernel panic - not syncing: VFS: Unable to mount root fs on unknown-block(0,0)\r\n":       EndPanic,
		"ALERT!  UUID=99 does not exist.  Dropping to a shell!\r\n(initramfs) ":                              EndEarly,
		"error: file `/boot/grub/i386-pc/normal.mod' not found.\r\nEntering rescue mode...\r\ngrub rescue> ": EndLoader,
		"Begin: Running /scripts/local-top ... Please unlock disk vda3_crypt: ":                              EndLocked,
		"   GNU GRUB  version 2.06\r\n\r\ngrub> ":                                                            EndLoader,
		"SeaBIOS\r\nBooting from Hard Disk...\r\nNo bootable device.\r\n":                                    EndFirmware,
		"BdsDxe: No bootable option or device was found.\r\n":                                                EndFirmware,
		"[    1.0] systemd[1]: Started Journal Service.\r\nlast login: never said so\r\n":                    "",
	} {
		for _, piece := range []int{1, 7, len(text)} {
			ended := 0
			w := &watcher{ended: func() { ended++ }}
			w.idle, w.prompt = time.AfterFunc(time.Hour, func() {}), time.AfterFunc(time.Hour, func() {})
			for rest := text; rest != ""; {
				n := min(piece, len(rest))
				_, _ = w.Write([]byte(rest[:n])) // it never fails
				rest = rest[n:]
			}
			w.idle.Stop()
			w.prompt.Stop()
			w.asked() // as if nothing more came
			end, saw, last := w.result()
			if end != want || (want == "") != (ended == 0) || ended > 1 {
				t.Errorf("%q in pieces of %d: %q, said by %q, ended %d times", text, piece, end, saw, ended)
			}
			if len(last) == 0 || strings.ContainsAny(strings.Join(last, ""), "\x1b\r") {
				t.Errorf("%q: the last lines are %q", text, last)
			}
		}
	}
	broken := &watcher{ended: func() {}}
	broken.idle, broken.prompt = time.AfterFunc(time.Hour, func() {}), time.AfterFunc(time.Hour, func() {})
	_, _ = broken.Write([]byte("KVM internal error. Suberror: 3\nRIP=000 EFL=00\n"))
	if end, _, _ := broken.result(); end != "" || !broken.broken {
		t.Errorf("an emulator that breaks down: %q", end)
	}
	silent := &watcher{ended: func() {}}
	silent.idle, silent.prompt = time.AfterFunc(time.Hour, func() {}), time.AfterFunc(time.Hour, func() {})
	_, _ = silent.Write([]byte("Loading Linux ...\r\n"))
	silent.silent()
	if end, saw, _ := silent.result(); end != EndSilent || saw != "Loading Linux ..." {
		t.Errorf("one that prints nothing more: %q, %q", end, saw)
	}
}

// Menus of loaders are told to use the serial console, once, and nothing else of them changes.
func TestMenusAreToldToUseTheSerialConsole(t *testing.T) {
	dir := t.TempDir()
	files := map[string][2]string{
		"boot/grub/grub.cfg": {
			"menuentry 'x' {\n\tlinux\t/vmlinuz root=UUID=1 ro quiet\n\tinitrd /initrd\n}\n",
			"serial --unit=0 --speed=115200\nterminal_output console serial\n" +
				"menuentry 'x' {\n\tlinux\t/vmlinuz root=UUID=1 ro quiet console=ttyS0,115200\n\tinitrd /initrd\n}\n",
		},
		"boot/efi/loader/entries/a.conf": {
			"title A\nlinux /k\noptions root=UUID=1 ro\n",
			"title A\nlinux /k\noptions root=UUID=1 ro console=ttyS0,115200\n",
		},
		"boot/efi/EFI/debian/grub.cfg": {"search.fs_uuid 1 root\n", "search.fs_uuid 1 root\n"},
		"boot/loader/entries/b.conf":   {"options console=ttyS0\n", "options console=ttyS0\n"},
	}
	for name, text := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text[0]), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = root.Close() }()
	for range 2 {
		if _, err := serialMenus(root); err != nil {
			t.Fatal(err)
		}
		for name, text := range files {
			if got, _ := root.ReadFile(name); string(got) != text[1] {
				t.Errorf("%s: %q", name, got)
			}
		}
	}
}

// Firmware without boot entries finds nothing on a disk that only an entry leads to: on the copy the loader is put
// where it looks, with what lies beside it; where something lies there already, nothing is.
func TestALoaderIsPutWhereFirmwareWithoutEntriesLooks(t *testing.T) {
	for name, c := range map[string]struct {
		files []string
		put   string
		there []string
	}{
		"signed": {
			[]string{"boot/efi/EFI/debian/shimx64.efi", "boot/efi/EFI/debian/grubx64.efi"},
			"EFI/debian/shimx64.efi", []string{"BOOTX64.EFI", "grubx64.efi"},
		},
		"GRUB alone": {
			[]string{"boot/efi/EFI/debian/grubx64.efi", "boot/efi/EFI/debian/grub.cfg"},
			"EFI/debian/grubx64.efi", []string{"BOOTX64.EFI", "grub.cfg"},
		},
		"a fallback":     {[]string{"boot/efi/EFI/debian/grubx64.efi", "boot/efi/EFI/Boot/bootx64.efi"}, "", nil},
		"nothing at all": {[]string{"boot/efi/EFI/notes.txt"}, "", nil},
	} {
		dir := t.TempDir()
		for _, f := range c.files {
			if err := os.MkdirAll(filepath.Join(dir, filepath.Dir(f)), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(dir, f), []byte(f), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		root, err := os.OpenRoot(dir)
		if err != nil {
			t.Fatal(err)
		}
		put, err := fillFallback(root)
		if err != nil || put != c.put {
			t.Errorf("%s: %q, %v, want %q", name, put, err, c.put)
		}
		for _, f := range c.there {
			if _, err := root.Stat("boot/efi/EFI/BOOT/" + f); err != nil {
				t.Errorf("%s: %v", name, err)
			}
		}
		if raw, _ := root.ReadFile("boot/efi/EFI/BOOT/BOOTX64.EFI"); c.put != "" && string(raw) != "boot/efi/"+c.put {
			t.Errorf("%s: %q lies there", name, raw)
		}
		if err := root.Close(); err != nil {
			t.Fatal(err)
		}
	}
}
