package inside

import (
	"context"
	"os"
	"testing"

	"diorthos/core/block"
	"diorthos/core/system"
)

func TestTry(t *testing.T) {
	path := os.Getenv("TRY")
	dev, err := block.OpenImage(path, 512, true)
	if err != nil {
		t.Skip()
	}
	draft := block.NewDraft(dev)
	s, err := Enter(context.Background(), draft, 1, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range [][]string{
		{"sh", "-c", "ls -l /dev /dev/disk/by-uuid; mount; ps ax; id; ip a"},
		{"grub-probe", "-t", "device", "/"},
		{"grub-probe", "-t", "drive", "/"},
		{"grub-probe", "-t", "fs_uuid", "/"},
		{"update-grub"},
		{"grub-install", "--target=i386-pc", "--recheck", "/dev/" + os.Getenv("LOOPDEV")},
		{"update-initramfs", "-u"},
		{"dpkg", "--audit"},
		{"sh", "-c", "cat /boot/grub/grub.cfg; mount"},
	} {
		out, err := s.Run(context.Background(), system.Command{Args: c})
		t.Logf("%v: %d %v %v\n%s", c, out.Status, out.Took, err, out.Text)
	}
	list, err := s.Changed()
	t.Log(len(list), err)
	for _, c := range list[:min(30, len(list))] {
		t.Log(c)
	}
	if err := s.Leave(); err != nil {
		t.Fatal(err)
	}
	w, err := draft.Writes()
	n := 0
	for _, x := range w {
		n += len(x.Data)
	}
	t.Log(len(w), n, err)
}
