package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// realJobs are those that are walked on a real Debian system: in a folder, as a mounted or a running one is, or on a
// disk that is started in an emulator in the end. standin/debian/job.sh makes each of these machines.
var realJobs = []walk{
	{
		number: 1, title: "The monthly update is refused", said: "It says E: and something about a sub-process, every day.",
		steps: func(w *walker) {
			w.waits("run of apt")
			w.finds("WHAT TO DO")
			w.mends("", "--yes")
			w.does(0, "", "store", "check", w.folder)
		},
	},
	{
		number: 2, title: "The installer is too old for today",
		said: "It worked on the others last year. On this one it says expired.",
		steps: func(w *walker) {
			w.waits("update")
			w.finds("expired")
			w.backsUp()
			w.tells("Lists past their date are accepted for the attempt, and refused again afterwards. " +
				"The attempt is made while the climb waits.")
			w.does(-1, "n\n", "climb", "--root", w.folder)
			if !w.tries() {
				w.t.Error("the update still fails while expired lists are accepted")
			}
			wants(w.t, w.does(-1, "y\n", "climb", "--root", w.folder), "given back")
			if left, _ := filepath.Glob(filepath.Join(w.folder, "etc/apt/apt.conf.d/*diorthos*")); len(left) > 0 {
				w.t.Errorf("what was lent is left there: %v", left)
			}
			w.does(-1, "", "ready", "--root", w.folder, "--recommend")
		},
	},
	{
		number: 3, title: "A code about the target disk",
		said:  "There are three of them in the list, and I do not know which.",
		steps: threeDisks,
	},
	{
		number: 4, title: "The upgrade helper gives up before it has measured anything",
		said: "I have set the other one active, as it said on a page, and now nothing starts.",
		steps: func(w *walker) {
			w.waits("")
			w.does(-1, "", "ready", "--image", w.folder, "--for", "debian-13")
			w.finds("active flag")
			w.does(1, "", "layout", "mend", "--activate", "2", w.folder)
			w.climbs(0, "--yes")
			wants(w.t, w.does(0, "", "rehearse", w.folder), "login")
		},
	},
	{
		number: 5, title: "An upgrade stops in an early offline stage, copying optional parts",
		said: "It comes to a part and says of another build.",
		steps: func(w *walker) {
			w.waits("upgrade")
			wants(w.t, w.does(1, "", "ready", "--root", w.folder, "--update",
				filepath.Join(w.folder, "repo/skerrow-optional_1.1_riscv64.deb")), "made for riscv64")
			w.finds("not as it was shipped")
			w.mends("", "--yes", "--source", filepath.Join(w.folder, "repo"))
		},
	},
	{
		number: 8, title: "The repair loop",
		said: "It wants a password for maintenance, and then it does the same again.",
		steps: func(w *walker) {
			w.waits("")
			twin := filepath.Join(filepath.Dir(w.folder), "healthy.img")
			witness(w.t, "cp", "--sparse=always", strings.TrimSpace(witness(w.t, "../standin/debian/whole.sh")), twin)
			w.finds("WHAT TO DO")
			for range 4 {
				w.climbs(-1, "--yes", "--source", twin)
				if w.does(-1, "", "diagnose", "--image", w.folder); w.found == 0 {
					break
				}
			}
			wants(w.t, w.does(0, "", "rehearse", w.folder), "login")
		},
	},
	{
		number: 9, title: "The loader's configuration is gone",
		said: "It stands there in black and white and says grub and a sign. I have done nothing.",
		steps: func(w *walker) {
			w.waits("")
			w.does(1, "", "boot", "show", w.folder)
			w.finds("menu")
			w.climbs(0, "--rehearse")
			wants(w.t, w.does(0, "", "rehearse", w.folder), "login")
		},
	},
	{
		number: 10, title: "A preview update will not install",
		said: "It is only the preview, but the manager wants it. Each time it is something else.",
		steps: func(w *walker) {
			w.waits("update")
			w.finds("WHAT TO DO")
			w.mends("", "--yes", "--source", filepath.Join(w.folder, "repo"))
		},
	},
	{
		number: 11, title: "An optional feature without payload",
		said: "The maps are not on it, and the office has no way out to the network.",
		steps: func(w *walker) {
			w.waits("installation")
			w.finds("name of the repository")
			w.mends("", "--yes", "--source", w.folder+".medium")
		},
	},
	{
		number: 13, title: "Two updates fail", said: "One wants the other first, and that one does not go on.",
		steps: func(w *walker) {
			w.waits("run of apt")
			w.finds("WHAT TO DO")
			w.climbs(0, "--yes")
			w.tells("Somebody puts the compass in that the script asks for: that takes a person.")
			put(w.t, filepath.Join(w.folder, "srv/compass"), []byte("north\n"))
			w.mends("", "--yes")
		},
	},
	{
		number: 15, title: "An older driver is offered than is installed",
		said: "Every week it wants to put the old screen driver on, and fails.",
		steps: func(w *walker) {
			w.waits("upgrade")
			w.finds("older than what is installed")
			w.mends("", "--yes")
			wants(w.t, w.does(0, "", "upkeep", "release", "skerrow-screen=1.4", w.folder), "may be begun again")
		},
	},
	{
		number: 16, title: "The disk's table is of the other style",
		said: "The new board starts by UEFI. The installer says the disk is of the wrong style.",
		steps: func(w *walker) {
			w.waits("")
			before := mountedSum(w.t, w.folder)
			w.does(1, "", "layout", "check", w.folder, "--firmware", "uefi")
			w.cause = w.commands
			w.does(0, "", "layout", "restyle", "--to", "gpt", "--firmware", "uefi", w.folder, "--dry-run")
			stood := w.standsAs()
			w.takesBack(w.does(0, "", "layout", "restyle", "--to", "gpt", "--firmware", "uefi", w.folder), stood)
			w.does(0, "", "layout", "check", w.folder, "--firmware", "uefi")
			witness(w.t, "sgdisk", "-v", w.folder)
			if mountedSum(w.t, w.folder) != before {
				w.t.Error("a file of the system is not what it was")
			}
		},
	},
	{
		number: 17, title: "The table's style again, with many partitions to keep some of",
		said:  "There are six of them, and the pictures of the harbour are on one, I do not know which.",
		steps: manyPartitions,
	},
	{
		number: 20, title: "A medium made for the other firmware mode",
		said: "I have made the stick as always. The new one does not see it.",
		steps: func(w *walker) {
			w.waits("")
			in := func(name string) string { return filepath.Join(w.folder, name) }
			w.does(-1, "", "media", "inspect", in("old.iso"))
			wants(w.t, w.does(2, "", "media", "write", "--to", in("stick.img"), "--firmware", "uefi", in("old.iso")), "UEFI")
			w.cause = w.commands
			w.does(0, "", "media", "write", "--to", in("stick.img"), "--firmware", "uefi", in("new.iso"))
			wants(w.t, w.does(0, "", "media", "inspect", in("stick.img")), "stick, uefi")
		},
	},
	{
		number: 21, title: "The loader is missing",
		said: "It says that it has mended itself, and the screen stays black.",
		steps: func(w *walker) {
			w.waits("")
			w.does(1, "", "boot", "show", w.folder)
			w.finds("loader")
			w.climbs(0, "--rehearse")
			wants(w.t, w.does(0, "", "rehearse", w.folder), "login")
		},
	},
}

const makesJobs = "../standin/debian/job.sh"

// waits makes the machine that waits for the job. What is tried on it, if it can be tried at once, is of that name.
func (w *walker) waits(try string) {
	w.t.Helper()
	number := fmt.Sprint(w.number)
	w.folder = filepath.Join(w.t.TempDir(), "kiosk")
	witness(w.t, makesJobs, number, w.folder)
	fmt.Fprintf(&w.page,
		"\n\"make demo\" has it in .demo/jobs/%02s-debian, where it runs as root. This makes another one, as root:\n\n"+
			"```\n$ standin/debian/job.sh %[1]s kiosk\n```\n", number,
	)
	if try == "" {
		return
	}
	w.how, w.try = "--root", try
	w.attempt = func() bool {
		out, err := exec.CommandContext(w.t.Context(), makesJobs, "--try", number, w.folder).CombinedOutput()
		put(w.t, w.folder+".screen.txt", out)
		return err == nil
	}
	w.kept = func() string {
		return witness(w.t, "sh", "-c", `cd "$0" && find home srv -type f ! -name compass -exec sha256sum {} +`, w.folder)
	}
	w.before = w.kept()
}

// mountedSum is a digest of every file of the volume that begins at 1 MiB, as the kernel reads it.
func mountedSum(t testing.TB, disk string) string {
	t.Helper()
	return witness(t, "sh", "-ec", `mount -o loop,ro,offset=1048576,norecovery "$0" "$1"
		cd "$1"; find . -xdev -type f -print0 | sort -z | xargs -0 sha256sum | sha256sum; cd /; umount "$1"`,
		disk, t.TempDir())
}

// threeDisks walks a machine with three disks of which one may be wiped.
func threeDisks(w *walker) {
	w.waits("")
	disk := func(name string) string { return filepath.Join(w.folder, name+".img") }
	others := witness(w.t, "sha256sum", disk("sda"), disk("sdc"))
	w.does(-1, "", "layout", "show", disk("sda"))
	wants(w.t, w.does(0, "", "layout", "show", disk("sdb")), "old-system", "old-home")
	wants(w.t, w.does(0, "", "layout", "show", disk("sdc")), "anna")
	w.cause = w.commands
	plan := filepath.Join(filepath.Dir(w.folder), "plan.yaml")
	put(w.t, plan, []byte("partitions:\n  - {name: ESP, type: EFI system, min: 300 MiB, format: fat32}\n"+
		"  - {name: system, type: Linux data, min: 600 MiB, share: 1}\n"))
	wants(w.t, w.does(2, "", "layout", "carve", plan, disk("sda"), "--dry-run"), "does not fit")
	wants(w.t, w.does(-1, "", "layout", "carve", plan, disk("sdc"), "--dry-run"), "would be lost", "anna")
	w.does(2, "", "layout", "carve", plan, disk("sdb"))
	stood := w.standsAs()
	w.takesBack(w.does(0, "", "layout", "carve", plan, disk("sdb"), "--confirm", "sdb.img"), stood)
	w.does(0, "", "layout", "check", disk("sdb"), "--firmware", "uefi")
	witness(w.t, "sgdisk", "-v", disk("sdb"))
	if witness(w.t, "sha256sum", disk("sda"), disk("sdc")) != others {
		w.t.Error("another disk was touched")
	}
}

// manyPartitions walks a disk of the old style with six partitions, of which the one with users' files is to be kept
// under a new table. Their numbers change on the way; what is on them tells which is which.
func manyPartitions(w *walker) {
	w.waits("")
	before := partitionSum(w.t, w.folder, 842006528)
	shown := w.does(0, "", "layout", "show", w.folder)
	wants(w.t, shown, "harbour", "old-system")
	w.cause = w.commands
	w.does(0, "", "layout", "restyle", "--to", "gpt", "--firmware", "uefi", w.folder, "--dry-run")
	w.does(0, "", "layout", "restyle", "--to", "gpt", "--firmware", "uefi", w.folder)
	kept := partitionLabelled(w.t, w, "harbour")
	plan := filepath.Join(filepath.Dir(w.folder), "plan.yaml")
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

// TestJobsOnRealMachines walks them all where "make prove-jobs" asks for it, on machines made of Debian's packages.
func TestJobsOnRealMachines(t *testing.T) {
	dir := os.Getenv("DIORTHOS_JOBS")
	if os.Geteuid() != 0 {
		t.Skip("a real system in a folder takes root")
	}
	debianFolder(t)
	t.Setenv("DIORTHOS_FOLDER", madeFolder)
	for _, j := range realJobs {
		if dir == "" && !slices.Contains([]int{2, 11}, j.number) {
			continue // "make prove-jobs" walks all
		}
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
