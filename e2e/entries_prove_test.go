//go:build prove

package e2e

import (
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// sdbootRoot is where the root volume of standin/debian/sdboot.sh lies, in bytes.
const sdbootRoot = 257 << 20

// A machine that is started by systemd-boot, by entries or by a kernel that carries all, is followed,
// mended and started again, and the undo is exact.
func TestProveThatAMachineWithEntriesStartsAgain(t *testing.T) {
	const esp = "-i $disk@@1M"
	folder := `v=$(mdir -b ` + esp + ` ::/debian | sed 's,.*/debian/,,; s,/$,,')` + "\n"
	breaks := map[string]map[string][]breaking{
		"entries": {
			"no entry":  {{0, "mdeltree " + esp + " ::/loader/entries"}},
			"no loader": {{0, "mdeltree " + esp + " ::/EFI"}},
			"no kernel": {{0, folder + "mdel " + esp + " ::/debian/$v/linux"}},
			"the kernel is cut off": {
				{0, folder + "head -c 100000 /dev/urandom >$disk.k; mcopy -o " + esp + " $disk.k ::/debian/$v/linux; rm $disk.k"},
			},
			"no early-boot image": {{0, folder + "mdel " + esp + " ::/debian/$v/initrd.img-$v"}},
			"the early-boot image is cut off": {
				{
					0,
					folder + "mcopy " + esp + " ::/debian/$v/initrd.img-$v $disk.i; truncate -s 3000000 $disk.i; " +
						"mcopy -o " + esp + " $disk.i ::/debian/$v/initrd.img-$v; rm $disk.i",
				},
			},
			"another root in the entry": {
				{
					0,
					folder + "mtype " + esp + " ::/loader/entries/debian-$v.conf | sed s,3f1c7a52,00000000, >$disk.e; " +
						"mcopy -o " + esp +
						" $disk.e ::/loader/entries/debian-$v.conf; rm $disk.e",
				},
			},
			"an entry without its early-boot image": {
				{0, folder + "mtype " + esp + " ::/loader/entries/debian-$v.conf | grep -v ^initrd >$disk.e; mcopy -o " + esp +
					" $disk.e ::/loader/entries/debian-$v.conf; rm $disk.e"},
			},
			"nothing on the EFI system partition": {{0, "mdeltree " + esp + " ::/EFI ::/loader ::/debian"}},
			"the partition's type":                {{0, "sgdisk -t 1:8300 $disk >/dev/null"}},
			"a mount that is not there": {
				{sdbootRoot, "echo 'UUID=11111111-2222-3333-4444-555555555555 /data ext4 defaults 0 2' >>etc/fstab"},
			},
		},
		"unified": {
			"no kernel": {{0, "mdeltree " + esp + " ::/EFI/Linux"}},
			"the kernel is cut off": {
				{
					0,
					"n=$(mdir -b " + esp + " ::/EFI/Linux); mcopy " + esp + " $n $disk.k; truncate -s 9000000 $disk.k; " +
						"mcopy -o " + esp + " $disk.k $n; rm $disk.k",
				},
			},
			"no loader": {{0, "mdeltree " + esp + " ::/EFI/systemd ::/EFI/BOOT"}},
		},
	}
	total, starts := 0, 0
	for _, kind := range []string{"entries", "unified"} {
		c := exec.CommandContext(t.Context(), "../standin/debian/sdboot.sh", kind)
		c.Stderr = os.Stderr
		out, err := c.Output()
		if err != nil {
			t.Fatal(err)
		}
		base := strings.TrimSpace(string(out))
		var names []string
		for name := range breaks[kind] {
			names = append(names, name)
		}
		slices.Sort(names)
		for _, name := range names {
			total++
			t.Run(kind+": "+name, func(t *testing.T) {
				if mendedStarts(t, brokenLVM(t, base, breaks[kind][name])) {
					starts++
				}
			})
		}
	}
	t.Logf("%d of %d start", starts, total)
}
