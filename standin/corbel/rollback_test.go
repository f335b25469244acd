package corbel_test

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"diorthos/core/block"
	"diorthos/core/fat"
	"diorthos/core/layout"
	"diorthos/platform/corbelfile"
	"diorthos/standin/corbel"
)

// contents are the digests of all files of all volumes but the logs.
func contents(t *testing.T, m *corbel.Machine) map[string]string {
	t.Helper()
	dev, err := block.OpenImage(m.Disk(), 512, true)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = dev.Close() }()
	table, err := layout.Read(dev)
	if err != nil {
		t.Fatal(err)
	}
	list := map[string]string{}
	for _, p := range table.Partitions() {
		v, err := fat.Open(block.NewReadRange(dev, p.Off, p.Length))
		if err != nil {
			continue
		}
		err = fs.WalkDir(v, ".", func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.HasPrefix(name, corbelfile.LogFolder) {
				return err
			}
			raw, err := fs.ReadFile(v, name)
			sum := sha256.Sum256(raw)
			list[v.Label+"/"+name] = hex.EncodeToString(sum[:])
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	return list
}

// Wherever an attempt fails, all that it did is taken back, but the logs.
func TestAFailedAttemptLeavesNothingButLogs(t *testing.T) {
	v, link := vendor(t)
	stages := map[string]int{}
	for i := range corbel.Faults {
		f := &corbel.Faults[i]
		if f.Try == corbel.TryStart || f.Group == "disk" {
			continue
		}
		o := corbel.Options{Seed: uint64(700 + i), Mode: f.Mode(uint64(i)), Name: "m", Now: now, Vendor: v, Link: link}
		m, err := corbel.Build(t.Context(), filepath.Join(t.TempDir(), "m"), o)
		if err == nil {
			err = f.Break(t.Context(), m, o)
		}
		if err != nil {
			t.Fatal(err)
		}
		before := contents(t, m)
		out, err := f.TryOn(t.Context(), m, now, link)
		if err != nil || out.OK {
			t.Fatalf("%s: %+v %v", f.Name, out, err)
		}
		stages[out.Stage]++
		if after := contents(t, m); !maps.Equal(before, after) {
			for name := range after {
				if before[name] != after[name] {
					t.Errorf("%s, failed at %s: %s was left behind or changed", f.Name, out.Stage, name)
				}
			}
			for name := range before {
				if after[name] == "" {
					t.Errorf("%s, failed at %s: %s is gone", f.Name, out.Stage, name)
				}
			}
		}
	}
	for _, stage := range []string{"survey", "fetch", "lay", "settle"} {
		if stages[stage] == 0 {
			t.Errorf("no attempt failed at %s: %v", stage, stages)
		}
	}
}

// The same seed makes the same machine; another makes another.
func TestASeedIsAMachine(t *testing.T) {
	v, link := vendor(t)
	var all []map[string]string
	for _, seed := range []uint64{5, 5, 6} {
		m, err := corbel.Build(t.Context(), filepath.Join(t.TempDir(), "m"), corbel.Options{
			Seed:   seed,
			Mode:   "uefi",
			Name:   "m",
			Now:    now,
			Vendor: v,
			Link:   link,
		})
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, contents(t, m))
	}
	for name, sum := range all[0] {
		signed := strings.HasSuffix(name, ".pack") || strings.HasSuffix(name, "offers.json") // by keys of their own
		if all[1][name] != sum && !signed {
			t.Errorf("%s differs between two machines of one seed", name)
		}
	}
	if maps.Equal(all[0], all[2]) {
		t.Error("another seed makes the same machine")
	}
}

// What the vendor serves is what machines verify: every offer of the catalogue
// has a package of its digest, whose payloads have the hashes that it lists.
func TestTheVendorServesWhatItsCatalogueSays(t *testing.T) {
	_, link := vendor(t)
	get := func(path string, status int) []byte {
		t.Helper()
		resp, err := http.Get(link.Base + path)
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = resp.Body.Close() }()
		raw, err := io.ReadAll(resp.Body)
		if err != nil || resp.StatusCode != status {
			t.Fatalf("%s: %d, want %d: %v", path, resp.StatusCode, status, err)
		}
		return raw
	}
	var offers []corbelfile.Offer
	if err := json.Unmarshal(get("/catalogue", 200), &offers); err != nil || len(offers) < 5 {
		t.Fatalf("%d offers: %v", len(offers), err)
	}
	for _, o := range offers {
		raw := get("/packages/"+o.ID, 200)
		p, err := corbelfile.ReadPack(raw)
		if err != nil || corbelfile.PackDigest(raw) != o.Digest || p.Damaged() != "" || p.Verify(now) != nil {
			t.Errorf(
				"%s: %v, digest %s, want %s, damaged %q, %v",
				o.ID, err, corbelfile.PackDigest(raw), o.Digest, p.Damaged(), p.Verify(now),
			)
		}
		for hash := range p.Payloads {
			if got := corbelfile.Hash(get("/payloads/"+strconv.Itoa(o.Build)+"/"+hash, 200)); got != hash {
				t.Errorf("%s: payload %s has the hash %s", o.ID, hash, got)
			}
			break // the same way for all of them
		}
		raw[len(raw)-1] ^= 1
		if p, err := corbelfile.ReadPack(raw); err == nil && p.Damaged() == "" {
			t.Errorf("%s: an altered package passes", o.ID)
		}
	}
	get("/packages/U0000", 404)
	get("/payloads/7210/none", 404)
	get("/payloads/none/none", 404)
}
