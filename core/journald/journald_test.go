package journald_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"diorthos/core/journald"
)

const (
	bootOne = "6b0c6f7e0b8e4b5c8d9e0f1a2b3c4d5e"
	bootTwo = "7c1d7a8f1c9f4c6d9eaf1a2b3c4d5e6f"
)

// A record is one that is to be written: by the service manager, unless it says otherwise.
type record struct {
	boot, who, text string
	priority        int
}

// written has the service manager's own tool write a journal, packed in some way. The records come
// a second apart.
func written(t testing.TB, how string, list []record) string {
	t.Helper()
	var b bytes.Buffer
	for i, r := range list {
		who, pid := r.who, 400
		if who == "" {
			who, pid = "systemd", 1
		}
		fmt.Fprintf(&b, "__REALTIME_TIMESTAMP=%d\n__MONOTONIC_TIMESTAMP=%d\n_BOOT_ID=%s\nPRIORITY=%d\n_HOSTNAME=quay-4\n"+
			"SYSLOG_IDENTIFIER=%s\n_PID=%d\n", 1795658964000000+i*1000000, 1000000+i*1000000, r.boot, r.priority, who, pid)
		fmt.Fprintf(&b, "MESSAGE\n%s%s\n\n", le64(len(r.text)), r.text)
	}
	path := filepath.Join(t.TempDir(), "system.journal")
	c := exec.Command("/lib/systemd/systemd-journal-remote", "--output="+path, "-")
	c.Stdin = &b
	c.Env = append(os.Environ(), strings.Fields(how)...)
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	return path
}

func le64(n int) string {
	b := make([]byte, 8)
	for i := range b {
		b[i] = byte(n >> (8 * i))
	}
	return string(b)
}

func opened(t testing.TB, path string) *journald.File {
	t.Helper()
	r, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = r.Close() })
	info, err := r.Stat()
	if err != nil {
		t.Fatal(err)
	}
	f, err := journald.Open(r, info.Size())
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func many(n int) (list []record) {
	r := rand.New(rand.NewPCG(1, 2))
	for i := range n {
		text := fmt.Sprintf("buoy %d is lit", i)
		if i%7 == 0 { // long enough to be packed
			text += strings.Repeat(fmt.Sprintf(" and seen by ferry %d", r.IntN(9)), 60)
		}
		if i%50 == 1 {
			text += "\nsecond line, ü"
		}
		list = append(list, record{boot: bootOne, who: "beacon", text: text, priority: i % 8})
	}
	return list
}

// Whatever a journal is packed by, every record is read as the service manager's own reader does.
func TestEveryRecordIsReadAsJournalctlReadsIt(t *testing.T) {
	for _, how := range []string{
		"SYSTEMD_JOURNAL_COMPACT=1 SYSTEMD_JOURNAL_COMPRESS=zstd", "SYSTEMD_JOURNAL_COMPACT=0 SYSTEMD_JOURNAL_COMPRESS=zstd",
		"SYSTEMD_JOURNAL_COMPACT=0 SYSTEMD_JOURNAL_COMPRESS=lz4 SYSTEMD_JOURNAL_KEYED_HASH=0",
		"SYSTEMD_JOURNAL_COMPACT=0 SYSTEMD_JOURNAL_COMPRESS=xz", "SYSTEMD_JOURNAL_COMPACT=1 SYSTEMD_JOURNAL_COMPRESS=0",
	} {
		path := written(t, how, many(900))
		out, err := exec.Command("journalctl", "--file", path, "-o", "json", "--all").Output()
		if err != nil {
			t.Fatal(err)
		}
		dec, n := json.NewDecoder(bytes.NewReader(out)), 0
		f := opened(t, path)
		for e := range f.Entries() {
			var want map[string]any
			if err := dec.Decode(&want); err != nil {
				t.Fatalf("%s: record %d: %v", how, n, err)
			}
			for _, name := range []string{"MESSAGE", "PRIORITY", "_HOSTNAME", "SYSLOG_IDENTIFIER"} {
				if e.Field(name) != want[name] {
					t.Fatalf("%s: record %d: %s is %q, want %q", how, n, name, e.Field(name), want[name])
				}
			}
			if got := fmt.Sprint(e.Time.UnixMicro()); got != want["__REALTIME_TIMESTAMP"] || e.Boot != want["_BOOT_ID"] {
				t.Fatalf("%s: record %d: %s of %s, want %v", how, n, got, e.Boot, want)
			}
			n++
		}
		if n != 900 || f.Damaged != 0 {
			t.Errorf("%s: %d records, %d bytes damaged", how, n, f.Damaged)
		}
	}
}

// What is cut off or overwritten in the middle takes what it hit, and nothing else.
func TestADamagedJournalIsReadAsFarAsItGoes(t *testing.T) {
	path := written(t, "", many(900))
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	from, used := bytes.Index(raw, []byte("beacon")), len(bytes.TrimRight(raw, "\x00")) // behind the tables of hashes
	count := func(b []byte) (n int, damaged int64) {
		f, err := journald.Open(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			t.Fatal(err)
		}
		for range f.Entries() {
			n++
		}
		return n, f.Damaged
	}
	for _, part := range []int{10, 50, 90} {
		at := from + (used-from)*part/100
		if n, _ := count(raw[:at]); n < 900*(part-25)/100 || n > 900 {
			t.Errorf("cut off at %d %%: %d records", part, n)
		}
		b := bytes.Clone(raw)
		for i := range 3000 {
			b[at+i] = byte(i*7 + 1)
		}
		if n, damaged := count(b); n < 840 || n >= 900 || damaged == 0 {
			t.Errorf("overwritten at %d %%: %d records, %d bytes damaged", part, n, damaged)
		}
	}
	if _, err := journald.Open(bytes.NewReader([]byte("LPKSHHRH")), 8); err == nil {
		t.Error("eight bytes are taken for a journal")
	}
}

// How a start ended is told by how far it came, and each start is written with its end.
func TestStartsAreToldApartAndHowTheyEnded(t *testing.T) {
	begin := func(id string) []record {
		return []record{{boot: id, text: "systemd 252 running in system mode", priority: 6}}
	}
	failing := append(
		begin(bootTwo),
		record{
			boot:     bootTwo,
			text:     "dev-disk-by\\x2duuid-1.device: Job dev-disk-by\\x2duuid-1.device/start timed out.",
			priority: 4,
		},
		record{boot: bootTwo, text: "Dependency failed for local-fs.target - Local File Systems.", priority: 4},
		record{boot: bootTwo, text: "Started emergency.service - Emergency Shell.", priority: 6},
		record{boot: bootTwo, text: "Reached target emergency.target - Emergency Mode.", priority: 6},
	)
	well := append(
		begin(bootOne),
		record{boot: bootOne, text: "Reached target multi-user.target - Multi-User System.", priority: 6},
		record{boot: bootOne, who: "sshd", text: "Server listening on 0.0.0.0 port 22.", priority: 6},
	)
	cut := append(begin(bootTwo), record{boot: bootTwo, who: "kernel", text: "EXT4-fs (vda2): mounted", priority: 6})
	givenUp := append(begin(bootTwo),
		record{boot: bootTwo, text: "Failed to start tide.service - Tide tables.", priority: 3},
		record{boot: bootTwo, text: "Dependency failed for multi-user.target - Multi-User System.", priority: 4},
		record{boot: bootTwo, text: "Startup finished in 3.1s (kernel) + 9.2s (userspace) = 12.3s.", priority: 6})
	fake := append(
		begin(bootTwo),
		record{boot: bootTwo, who: "beacon", text: "Reached target multi-user.target", priority: 6},
	)
	for name, c := range map[string]struct {
		list    []record
		current string
		want    []journald.End
	}{
		"one that got through, one in emergency": {
			append(well, failing...), "", []journald.End{journald.GotThrough, journald.Emergency},
		},
		"one whose goal was given up": {givenUp, "", []journald.End{journald.GivenUp}},
		"one that stopped":            {cut, "", []journald.End{journald.Unknown}},
		"the one that runs":           {cut, bootTwo, []journald.End{journald.Going}},
		"another program's words":     {fake, "", []journald.End{journald.Unknown}},
	} {
		files := []*journald.File{opened(t, written(t, "", c.list))}
		boots := journald.Boots(files, c.current)
		if len(boots) != len(c.want) {
			t.Fatalf("%s: %d starts", name, len(boots))
		}
		for i, b := range boots {
			if b.End != c.want[i] {
				t.Errorf("%s: start %d: %q, want %q", name, i, b.End, c.want[i])
			}
		}
		var out bytes.Buffer
		if err := journald.WriteBoots(&out, files, boots, 1<<20); err != nil {
			t.Fatal(err)
		}
		failed := 0
		for _, end := range c.want {
			if end.Failed() {
				failed++
			}
		}
		if n := strings.Count(out.String(), " ends: "); n != len(c.want) ||
			strings.Count(out.String(), " failed: ") != failed ||
			strings.Count(out.String(), "\n") != len(c.list)+2*n+failed {
			t.Errorf("%s: %s", name, out.String())
		}
	}
	files := []*journald.File{opened(t, written(t, "", many(900)))}
	var out bytes.Buffer
	if err := journald.WriteBoots(&out, files, journald.Boots(files, ""), 20_000); err != nil {
		t.Fatal(err)
	}
	if out.Len() > 21_000 || !strings.Contains(out.String(), "buoy 0 is lit") ||
		!strings.Contains(out.String(), "buoy 899 is lit") ||
		!strings.Contains(out.String(), "records are left out here") {
		t.Errorf("a long start is written in %d bytes", out.Len())
	}
}

func FuzzOpen(f *testing.F) {
	raw, err := os.ReadFile(written(f, "", many(40)))
	if err != nil {
		f.Fatal(err)
	}
	used := bytes.TrimRight(raw, "\x00")
	from := max(0, bytes.Index(used, []byte("beacon"))-200) &^ 7 // behind the tables of hashes
	f.Add(append(bytes.Clone(used[:272]), used[from:]...))
	f.Fuzz(func(t *testing.T, raw []byte) {
		file, err := journald.Open(bytes.NewReader(raw), int64(len(raw)))
		if err != nil {
			return
		}
		for e := range file.Entries() {
			_ = e.Line()
		}
	})
}
