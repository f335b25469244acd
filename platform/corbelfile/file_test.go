package corbelfile_test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"diorthos/core/upkeep"
	"diorthos/platform/corbelfile"
)

// list writes a worklist of n operations, of which every kth is on a component
// that is gone, and the same list as it has to be without those.
func list(t testing.TB, n int, r *rand.Rand) (whole, want []byte, gone int) {
	t.Helper()
	var ops, kept []corbelfile.Operation
	for i := range n {
		op := corbelfile.Operation{
			Number:    i + 1,
			Do:        "place",
			Component: fmt.Sprintf("corbel-%c", 'a'+r.IntN(20)),
			Version:   "7.2.5",
			Payload:   fmt.Sprintf("%016x", r.Uint64()),
			At:        "x/part0.bin",
		}
		if r.IntN(9) == 0 {
			op = corbelfile.Operation{Number: i + 1, Do: "switch", Component: "corbel-ticket", Version: "7.2.13"}
			gone++
		} else {
			kept = append(kept, op)
		}
		ops = append(ops, op)
	}
	var a, b bytes.Buffer
	if err := corbelfile.WriteWorklist(&a, "U7213", ops); err != nil {
		t.Fatal(err)
	}
	if err := corbelfile.WriteWorklist(&b, "U7213", kept); err != nil {
		t.Fatal(err)
	}
	return a.Bytes(), b.Bytes(), gone
}

var findGone = corbelfile.FindOperations(func(component []byte) bool {
	return string(component) == "corbel-ticket 7.2.13"
})

// TestExcisionLeavesTheRestAsItWas: what stays is byte for byte the list that
// would have been written without the operations that go.
func TestExcisionLeavesTheRestAsItWas(t *testing.T) {
	for _, n := range []int{0, 1, 2, 5000, 60_000} {
		whole, want, gone := list(t, n, rand.New(rand.NewPCG(uint64(n), 3)))
		var out bytes.Buffer
		cut, err := upkeep.Excise(t.Context(), bytes.NewReader(whole), &out, findGone)
		if err != nil || !bytes.Equal(out.Bytes(), want) || cut.Out != gone || cut.Bytes != int64(len(whole)-len(want)) {
			t.Errorf("%d operations: cut %+v, want %d; %d bytes, want %d; %v", n, cut, gone, out.Len(), len(want), err)
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := upkeep.Excise(ctx, strings.NewReader("op 1\n"), &bytes.Buffer{}, findGone); err == nil {
		t.Error("an excision that was called off went on")
	}
}

// FuzzExcision: whatever the list, nothing dropped is nothing changed, and
// pieces kept are pieces of the list.
func FuzzExcision(f *testing.F) {
	whole, _, _ := list(f, 20, rand.New(rand.NewPCG(1, 1)))
	f.Add(whole)
	f.Add([]byte("\n\n component \n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		var same, less bytes.Buffer
		if _, err := upkeep.Excise(t.Context(), bytes.NewReader(raw), &same, corbelfile.FindOperations(func([]byte) bool {
			return false
		})); err != nil ||
			!bytes.Equal(same.Bytes(), raw) {
			t.Fatalf("copied %q to %q: %v", raw, same.Bytes(), err)
		}
		cut, err := upkeep.Excise(t.Context(), bytes.NewReader(raw), &less, findGone)
		if err != nil || int64(less.Len())+cut.Bytes != int64(len(raw)) {
			t.Fatalf("%d bytes left and %d cut of %d: %v", less.Len(), cut.Bytes, len(raw), err)
		}
		_, _, _ = corbelfile.ReadWorklist(bytes.NewReader(raw))
	})
}

// FuzzFiles: no file makes a reader fail otherwise than by an error, and
// settings that were read are written as they were.
func FuzzFiles(f *testing.F) {
	tree := &corbelfile.Tree{Branches: []corbelfile.Branch{{
		Name:   "a/b",
		Owner:  "system",
		Grants: "system:full",
		Values: map[string]string{"x": "1", "y": ""},
	}}}
	f.Add(tree.Bytes())
	f.Add(bytes.Replace(tree.Bytes(), []byte("x="), []byte("x\x00"), 1))
	f.Add(corbelfile.BootEntry{Volume: "1A2B-3C4D", Kernel: "k", Mode: "normal"}.Bytes())
	f.Add(corbelfile.Seal(corbelfile.KindIndex, corbelfile.Index{Build: 7210}))
	f.Add((&corbelfile.Pack{
		Contents: []corbelfile.Content{{Payload: "x", Size: 1}},
		Payloads: map[string][]byte{"x": {1}},
	}).Bytes())
	f.Fuzz(func(t *testing.T, raw []byte) {
		if tree, err := corbelfile.ReadTree(raw); err == nil {
			again, err := corbelfile.ReadTree(tree.Bytes())
			if err != nil || len(again.Branches) != len(tree.Branches) {
				t.Fatalf("%q was written as %q: %v", raw, tree.Bytes(), err)
			}
		}
		_, _ = corbelfile.ReadBootStore(raw)
		_, _ = corbelfile.ReadPlate(raw)
		var x corbelfile.Index
		_ = corbelfile.Unseal(corbelfile.KindIndex, raw, &x)
		if p, err := corbelfile.ReadPack(raw); err == nil {
			_ = p.Damaged()
			_ = corbelfile.PackDigest(raw)
		}
	})
}
