package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
)

// What fills a machine is told by whose it is: on the stand-in's disk, and in the folder of a real system, where what
// is mounted below it does not count.
func TestWhatFillsAMachineIsTold(t *testing.T) {
	s := &stage{t: t, url: "http://127.0.0.1:1"}
	kiosk := filepath.Join(t.TempDir(), "kiosk")
	s.must(0, "standin", "job", "6", kiosk)
	wants(t, s.must(0, "upkeep", "room", kiosk), "Corbel 7.2", "corbel/update/cache", "make-room", "files of people")
	var told struct {
		Shares []struct {
			Path  string
			Bytes int64
		}
		Bytes int64
	}
	if err := json.Unmarshal([]byte(s.must(0, "upkeep", "room", "--json", kiosk)), &told); err != nil ||
		len(told.Shares) < 5 || told.Shares[0].Path != "corbel/update/cache" || told.Shares[0].Bytes*2 < told.Bytes {
		t.Errorf("%+v, %v", told, err)
	}
	if os.Geteuid() != 0 {
		return // a real system in a folder takes root
	}
	root := debianFolder(t)
	put(t, filepath.Join(root, "home/anna/pictures"), make([]byte, 200<<20))
	witness(t, "mount", "-t", "tmpfs", "tmpfs", filepath.Join(root, "srv"))
	defer witness(t, "umount", filepath.Join(root, "srv"))
	put(t, filepath.Join(root, "srv/elsewhere"), make([]byte, 1<<20))
	out := s.must(0, "upkeep", "room", root, "--most", "1")
	wants(t, out, "Debian GNU/Linux", "200.0 MiB", "home/anna", "smaller ones")
	if err := json.Unmarshal([]byte(s.must(0, "upkeep", "room", "--json", root)), &told); err != nil {
		t.Fatal(err)
	}
	for _, share := range told.Shares {
		if share.Path == "srv/elsewhere" {
			t.Error("what is mounted below the folder is counted")
		}
	}
	if r := s.run("upkeep", "room", t.TempDir()); r.status != 2 {
		t.Errorf("a folder without a system: %+v", r)
	}
}
