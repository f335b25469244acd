package corbelfile_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"diorthos/platform/corbelfile"
)

func tree(r *rand.Rand) *corbelfile.Tree {
	t := &corbelfile.Tree{}
	for i := range 1 + r.IntN(6) {
		b := corbelfile.Branch{
			Name:   fmt.Sprintf("deck/%d", i),
			Owner:  []string{corbelfile.OwnerSystem, "ines"}[r.IntN(2)],
			Grants: corbelfile.GrantsShipped,
			Values: map[string]string{},
		}
		for k := range r.IntN(5) {
			b.Values[fmt.Sprintf("lamp%d", k)] = []string{"on", "off", "half = lit", "[dim]", " two  spaces"}[r.IntN(5)]
		}
		t.Branches = append(t.Branches, b)
	}
	return t
}

// What is written reads as the same, and is written as the same bytes again.
func TestSettingsAreReadAsTheyWereWritten(t *testing.T) {
	for seed := range uint64(200) {
		want := tree(rand.New(rand.NewPCG(seed, 1)))
		raw := want.Bytes()
		got, err := corbelfile.ReadTree(raw)
		if err != nil {
			t.Fatalf("seed %d: %v\n%s", seed, err, raw)
		}
		if !bytes.Equal(got.Bytes(), raw) {
			t.Fatalf("seed %d: written again:\n%s\nwant\n%s", seed, got.Bytes(), raw)
		}
		for i, b := range got.Branches {
			if w := want.Branches[i]; b.Damaged != "" || b.Name != w.Name || b.Owner != w.Owner || b.Grants != w.Grants ||
				!reflect.DeepEqual(b.Values, w.Values) {
				t.Fatalf("seed %d: %+v, want %+v", seed, b, w)
			}
		}
	}
}

// A byte of a value is another: that branch alone is damaged, stays as it was
// found when all is written again, and cannot be changed.
func TestADamagedBranchStaysAsItWasFound(t *testing.T) {
	sound := &corbelfile.Tree{Branches: []corbelfile.Branch{
		{Name: "a", Owner: "system", Grants: "g", Values: map[string]string{"one": "1"}},
		{Name: "b", Owner: "system", Grants: "g", Values: map[string]string{"two": "2"}},
	}}
	raw := bytes.Replace(sound.Bytes(), []byte("two=2"), []byte("two=7"), 1)
	got, err := corbelfile.ReadTree(raw)
	if err != nil {
		t.Fatal(err)
	}
	if got.Find("a").Damaged != "" || got.Find("b").Damaged == "" || len(got.Find("b").Values) != 0 {
		t.Fatalf("%+v", got.Branches)
	}
	if !bytes.Equal(got.Bytes(), raw) {
		t.Errorf("written again:\n%s\nwant\n%s", got.Bytes(), raw)
	}
	for what, err := range map[string]error{
		"set":         got.Set("b", "two", "2"),
		"rename":      got.Rename("b", "", "c"),
		"set in none": got.Set("c", "x", "y"),
	} {
		if err == nil {
			t.Errorf("%s: a damaged or missing branch was changed", what)
		}
	}
	if err := got.Set("a", "one", "11"); err != nil || !bytes.Contains(got.Bytes(), []byte("one=11")) ||
		!bytes.Contains(got.Bytes(), []byte("two=7")) {
		t.Errorf("%v\n%s", err, got.Bytes())
	}
}

func TestChangesThatNoFileCanHoldAreRefused(t *testing.T) {
	fresh := func() *corbelfile.Tree {
		return &corbelfile.Tree{Branches: []corbelfile.Branch{
			{
				Name:   "a",
				Owner:  "system",
				Grants: "g",
				Values: map[string]string{"one": "1", "two": "2"},
			}, {Name: "b", Owner: "system", Grants: "g", Values: map[string]string{}},
		}}
	}
	before := string(fresh().Bytes())
	for name, change := range map[string]func(*corbelfile.Tree) error{
		"a line in a value":     func(t *corbelfile.Tree) error { return t.Set("a", "one", "1\n[b] owner=me") },
		"a sign in a name":      func(t *corbelfile.Tree) error { return t.Set("a", "o=ne", "1") },
		"no name":               func(t *corbelfile.Tree) error { return t.Set("a", "", "1") },
		"onto another value":    func(t *corbelfile.Tree) error { return t.Rename("a", "one", "two") },
		"of no value":           func(t *corbelfile.Tree) error { return t.Rename("a", "three", "four") },
		"value to no name":      func(t *corbelfile.Tree) error { return t.Rename("a", "one", "") },
		"onto another branch":   func(t *corbelfile.Tree) error { return t.Rename("a", "", "b") },
		"branch to two words":   func(t *corbelfile.Tree) error { return t.Rename("a", "", "c d") },
		"branch with a bar":     func(t *corbelfile.Tree) error { return t.Rename("a", "", "c]") },
		"an owner of two words": func(t *corbelfile.Tree) error { return t.Find("a").SetOwner("ines m", "g") },
		"no grants":             func(t *corbelfile.Tree) error { return t.Find("a").SetOwner("ines", "") },
	} {
		x := fresh()
		if err := change(x); err == nil || string(x.Bytes()) != before {
			t.Errorf("%s: %v\n%s", name, err, x.Bytes())
		}
	}
	x := fresh()
	for _, err := range []error{
		x.Rename("a", "one", "uno"), x.Rename("b", "", "c"), x.Find("c").SetOwner("ines", "ines:full"),
		x.Set("c", "lamp", "on"),
	} {
		if err != nil {
			t.Error(err)
		}
	}
	text := string(x.Bytes())
	for _, want := range []string{"uno=1\n", "[c] owner=ines grants=ines:full", "lamp=on\n"} {
		if !strings.Contains(text, want) {
			t.Errorf("no %q in\n%s", want, text)
		}
	}
}
