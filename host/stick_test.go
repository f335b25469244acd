package host

import (
	"os"
	"path/filepath"
	"testing"
)

// What lies in memory is known as such, whatever is laid over it: a live system shows a folder as an overlay.
func TestWhatIsInMemoryIsSaid(t *testing.T) {
	if _, err := os.Stat("/dev/shm"); err == nil && !InMemory("/dev/shm/not/there/yet") {
		t.Error("/dev/shm is in memory")
	}
	disk := t.TempDir()
	table := func(upper string) []byte {
		return []byte("1 0 8:1 / / rw - ext4 /dev/sda1 rw\n" +
			"2 1 0:30 / " + disk + " rw shared:1 - overlay overlay rw,lowerdir=/l,upperdir=" + upper + ",workdir=/w\n")
	}
	for upper, want := range map[string]bool{
		"/dev/shm":                         true,
		filepath.Join(disk, `gone\040now`): true, // as after the root was changed: nobody can tell
	} {
		if got := overlaidInMemory(table(upper), filepath.Join(disk, "journals")); got != want {
			t.Errorf("an overlay on %s: in memory %v", upper, got)
		}
	}
	if overlaidInMemory(table("/dev/shm"), "/elsewhere") {
		t.Error("what does not lie on the overlay is said to")
	}
}

// Every disk is told with why it cannot be worked on, never left out.
func TestEveryDiskOfThisComputerIsTold(t *testing.T) {
	disks := 0
	for _, d := range devices() {
		if d.Kind == "disk" {
			disks++
		}
	}
	list := WholeDisks(nil)
	if len(list) != disks {
		t.Errorf("%d of %d disks", len(list), disks)
	}
	for _, d := range list {
		if d.Source == "" || d.Size == 0 {
			t.Errorf("%+v", d)
		}
	}
}
