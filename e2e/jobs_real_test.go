package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// realJobs are those that are walked on a real Debian system: in a folder, as a mounted or a running one is, or on a
// disk that is started in an emulator in the end.
var realJobs = []walk{
	{
		number: 1, title: "The monthly update is refused", said: "It says E: and something about a sub-process, every day.",
		steps: func(w *walker) {
			w.inAFolder(t1)
			w.finds("WHAT TO DO")
			w.mends("", "--yes")
			w.does(0, "", "store", "check", w.folder)
		},
	},
	{
		number: 9, title: "The loader's configuration is gone",
		said: "It stands there in black and white and says grub and a sign. I have done nothing.",
		steps: func(w *walker) {
			w.onADisk("rm boot/grub/grub.cfg")
			w.does(1, "", "boot", "show", w.folder)
			w.finds("menu")
			w.does(0, "", "climb", "--image", w.folder, "--rehearse")
			wants(w.t, w.does(0, "", "rehearse", w.folder), "login")
		},
	},
	{
		number: 13, title: "Two updates fail", said: "One wants the other first, and that one does not go on.",
		steps: func(w *walker) {
			w.inAFolder(t13)
			w.finds("WHAT TO DO")
			w.mends("", "--yes")
			w.does(-1, "", "upkeep", "aside", w.folder)
		},
	},
	{
		number: 17, title: "The table's style again, with many partitions to keep some of",
		said:  "There are six of them, and the pictures of the harbour are on one, I do not know which.",
		steps: manyPartitions,
	},
	{
		number: 21, title: "The loader is missing",
		said: "It says that it has mended itself, and the screen stays black.",
		steps: func(w *walker) {
			w.onADisk("")
			w.harm(0, 440)
			w.does(1, "", "boot", "show", w.folder)
			w.finds("loader")
			w.does(0, "", "climb", "--image", w.folder, "--rehearse")
			wants(w.t, w.does(0, "", "rehearse", w.folder), "login")
		},
	},
}

// t1 is a run that stopped half-way, a hook of the owner, a list that is cut off, and a folder of its
// surroundings gone.
const t1 = `apt-get -y install /repo/skerrow-deck_1.0_all.deb
mkdir -p /etc/apt/apt.conf.d; echo 'DPkg::Pre-Invoke { "/usr/local/bin/berths"; };' >/etc/apt/apt.conf.d/70berths
printf '#!/bin/sh\necho berths: no list >&2\nexit 7\n' >/usr/local/bin/berths; chmod 755 /usr/local/bin/berths
rm -rf /var/cache/apt/archives/partial; truncate -s 40 /var/lib/dpkg/info/mawk.list
apt-get -y install /repo/skerrow-plain_1.0_all.deb`

// t13 is two packages that need each other, of which one cannot be configured.
const t13 = `apt-get -y install /repo/skerrow-base_1.0_all.deb /repo/skerrow-top_1.0_all.deb`

// inAFolder lays out a real system in a folder, and harms it.
func (w *walker) inAFolder(harm string) {
	w.t.Helper()
	w.folder, w.how = debianFolder(w.t), "--root"
	packageIn(w.t, w.folder, "skerrow-deck", "1.0", "echo deck: the list of berths is missing >&2; exit 3")
	packageIn(w.t, w.folder, "skerrow-plain", "1.0", "true")
	packageIn(w.t, w.folder, "skerrow-base", "1.0", "echo base: no compass >&2; exit 3")
	packageIn(w.t, w.folder, "skerrow-top", "1.0", "true", "Depends: skerrow-base")
	inFolder(w.t, w.folder, harm)
	w.attempt = func() bool {
		out := inFolder(
			w.t,
			w.folder,
			"dpkg --audit; apt-get check -q >/dev/null && apt-get -y install /repo/skerrow-plain_1.0_all.deb >/dev/null 2>&1 && echo fit",
		)
		return out == "fit\n"
	}
	w.try = "run of apt"
	w.kept = func() string {
		return inFolder(w.t, w.folder, "cd / && find home srv -type f -exec sha256sum {} +")
	}
	w.before = w.kept()
}

// onADisk makes a real machine that starts by the older firmware, and harms it in a mount of its root volume.
func (w *walker) onADisk(harm string) {
	w.t.Helper()
	out, err := exec.CommandContext(w.t.Context(), "../standin/debian/bios.sh").Output()
	if err != nil {
		w.t.Fatal(err)
	}
	w.folder = filepath.Join(w.t.TempDir(), "kiosk.img")
	witness(w.t, "cp", "--sparse=always", strings.TrimSpace(string(out)), w.folder)
	at := filepath.Join(w.t.TempDir(), "m")
	// The computer that made it has given it its own name.
	witness(w.t, "sh", "-ec", `mkdir "$1"; mount -o loop,offset=1048576 "$0" "$1"
		cd "$1"; echo quay-4 >etc/hostname; eval "$2"; cd /; umount "$1"`, w.folder, at, harm)
}

// harm zeros bytes of the disk.
func (w *walker) harm(from, to int64) {
	w.t.Helper()
	f, err := os.OpenFile(w.folder, os.O_WRONLY, 0)
	if err != nil {
		w.t.Fatal(err)
	}
	if _, err := f.WriteAt(make([]byte, to-from), from); err != nil {
		w.t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		w.t.Fatal(err)
	}
}

// manyPartitions walks a disk of the old style with six partitions, of which the one with users' files is to be kept
// under a new table. Their numbers change on the way; what is on them tells which is which.
func manyPartitions(w *walker) {
	w.folder = filepath.Join(w.t.TempDir(), "kiosk.img")
	tree := w.t.TempDir()
	put(w.t, filepath.Join(tree, "harbour.jpg"), []byte(strings.Repeat("a picture of the harbour ", 4000)))
	witness(w.t, "sh", "-ec", `truncate -s 3G "$0"
		printf 'label: dos\n2048,409600,83\n411648,409600,82\n821248,5400000,5\n823296,819200,83\n1644544,819200,83\n2465792,819200,83\n' |
			sfdisk -q "$0"
		mke2fs -q -t ext4 -L old-system -E offset=1048576 "$0" 200M
		mke2fs -q -t ext4 -L harbour -d "$1" -E offset=842006528 "$0" 400M
		mke2fs -q -t ext4 -L scratch -E offset=1262485504 "$0" 400M`, w.folder, tree)
	before := partitionSum(w.t, w.folder, 842006528)
	shown := w.does(0, "", "layout", "show", w.folder)
	wants(w.t, shown, "harbour", "old-system")
	w.cause = w.commands
	w.does(0, "", "layout", "restyle", "--to", "gpt", "--firmware", "uefi", w.folder, "--dry-run")
	w.does(0, "", "layout", "restyle", "--to", "gpt", "--firmware", "uefi", w.folder)
	kept := partitionLabelled(w.t, w, "harbour")
	plan := filepath.Join(w.t.TempDir(), "plan.yaml")
	put(w.t, plan, []byte("partitions:\n  - {name: ESP, type: EFI system, min: 300 MiB, format: fat32}\n"+
		"  - {name: system, type: Linux data, min: 700 MiB, share: 1}\n"+
		fmt.Sprintf("  - {name: harbour, keep: %d}\n", kept)))
	w.tells(
		"The plan keeps the partition with the pictures, by what is on it, and has room for the loader and the system:",
	)
	raw, _ := os.ReadFile(plan)
	fmt.Fprintf(&w.page, "\n```\n%s```\n", raw)
	wants(w.t, w.does(-1, "", "layout", "carve", plan, w.folder, "--dry-run"), "old-system", "scratch")
	w.does(0, "", "layout", "carve", plan, w.folder, "--confirm", filepath.Base(w.folder))
	wants(w.t, w.does(0, "", "layout", "check", w.folder, "--firmware", "uefi"), "")
	wants(w.t, w.does(0, "", "layout", "show", w.folder), "harbour", "ESP")
	if now := partitionSum(w.t, w.folder, 842006528); now != before {
		w.t.Error("the partition with the pictures is not what it was")
	}
	witness(w.t, "sgdisk", "-v", w.folder)
}

// partitionSum is a digest of 400 MiB of a disk.
func partitionSum(t testing.TB, disk string, at int64) string {
	t.Helper()
	return witness(
		t,
		"sh",
		"-c",
		fmt.Sprintf("dd if=%s bs=1M iflag=skip_bytes,count_bytes skip=%d count=419430400 status=none | sha256sum", disk, at),
	)
}

// partitionLabelled is the number that a partition has now, by what is on it.
func partitionLabelled(t testing.TB, w *walker, label string) int {
	t.Helper()
	out := witness(t, "sh", "-c", binary+" layout show --json "+w.folder+
		` | python3 -c 'import json,sys; print([p["number"] for p in json.load(sys.stdin)["partitions"] if p["content"].get("label") == "`+label+`"][0])'`)
	n := 0
	if _, err := fmt.Sscan(out, &n); err != nil {
		t.Fatal(err)
	}
	return n
}

// TestJobsOnRealMachines walks them where "make prove-jobs" asks for it: it takes root, and a machine made of Debian's
// packages.
func TestJobsOnRealMachines(t *testing.T) {
	dir := os.Getenv("DIORTHOS_JOBS")
	if dir == "" || os.Geteuid() != 0 {
		t.Skip("make prove-jobs walks them, as root")
	}
	for _, j := range realJobs {
		t.Run(fmt.Sprintf("%02d", j.number), func(t *testing.T) {
			w := &walker{stage: &stage{t: t, url: "http://127.0.0.1:1"}, walk: j, began: time.Now(), medium: "\x00"}
			fmt.Fprintf(&w.page, "# %d. %s, on a real Debian machine\n\n> %s\n", j.number, j.title, j.said)
			j.steps(w)
			if w.kept != nil && w.kept() != w.before {
				t.Error("users' files are not what they were")
			}
			w.closes(dir, fmt.Sprintf("%02d-debian.md", j.number), "Debian")
		})
	}
}
