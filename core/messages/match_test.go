package messages_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"diorthos/core/knowledge"
	"diorthos/core/messages"
	shipped "diorthos/knowledge"
)

func book(t testing.TB) *knowledge.Knowledge {
	t.Helper()
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

// heardFor are words that are written as they sound.
var heardFor = map[string]string{
	"kernel": "colonel", "root": "route", "mount": "mound", "file": "phile", "boot": "boote", "system": "sistem",
	"device": "devise", "missing": "mising", "volume": "follume", "loader": "loder", "service": "servise",
	"damaged": "damidged", "package": "packidge", "failed": "faled", "archive": "arkive", "space": "spase",
}

// garbled is a message as somebody passes it on: with what differs filled in, words
// left out, mistyped, heard, split or joined, and some of their own around it.
func garbled(r *rand.Rand, says string) string {
	for strings.Contains(says, "{") {
		before, rest, _ := strings.Cut(says, "{")
		_, after, _ := strings.Cut(rest, "}")
		says = before + []string{"sda2", "/boot/vmlinuz-6.1", "12", "skerrow-crew", "something"}[r.IntN(5)] + after
	}
	var out []string
	for _, w := range strings.Fields(says) {
		plain := strings.ToLower(strings.Trim(w, ".,:;()[]'\"`"))
		switch n := r.IntN(100); {
		case n < 9 && len(plain) > 2: // left out
			continue
		case n < 15 && heardFor[plain] != "":
			w = heardFor[plain]
		case n < 24 && len(plain) > 4:
			w = slip(r, plain)
		case n < 27 && len(plain) > 7:
			w = plain[:4] + " " + plain[4:]
		case n < 29 && len(out) > 0:
			out[len(out)-1] += plain
			continue
		}
		out = append(out, w)
	}
	text := strings.Join(out, " ")
	return []string{"", "it says ", "then there is ", "after the update the screen shows "}[r.IntN(4)] + text
}

// slip makes one slip of the keys.
func slip(r *rand.Rand, w string) string {
	at := 1 + r.IntN(len(w)-2)
	switch r.IntN(4) {
	case 0:
		return w[:at] + w[at+1:]
	case 1:
		return w[:at] + string(w[at]) + w[at:]
	case 2:
		return w[:at] + string(w[at+1]) + string(w[at]) + w[at+2:]
	}
	return w[:at] + string(rune('a'+r.IntN(26))) + w[at+1:]
}

// Of 2,000 garblings the right message comes first in nine of ten, and is among the
// first three in nearly all. Messages that differ in nothing but what is filled in
// count as one.
func TestGarbledWordsAreRecognised(t *testing.T) {
	k := book(t)
	r := rand.New(rand.NewPCG(2026, 11))
	const runs = 2000
	first, three := 0, 0
	for range runs {
		want := k.Messages[r.IntN(len(k.Messages))]
		text := garbled(r, want.Says)
		got := k.Book.Match(text, 3)
		for i, m := range got {
			if m.Message == want {
				three++
				if i == 0 {
					first++
				}
			}
		}
		if testing.Verbose() && (len(got) == 0 || got[0].Message != want) {
			says := "nothing"
			if len(got) > 0 {
				says = got[0].Message.Says
			}
			t.Logf("%q\n   wanted %q\n   got    %q", text, want.Says, says)
		}
	}
	t.Logf("of %d garblings %d first (%.1f %%), %d in three (%.1f %%)",
		runs, first, 100*float64(first)/runs, three, 100*float64(three)/runs)
	if first < runs*90/100 || three < runs*97/100 {
		t.Errorf("the right message came first %d times, and in three %d, of %d", first, three, runs)
	}
}

// What is no message of anybody's is not taken for one.
func TestOtherWordsAreNotTakenForAMessage(t *testing.T) {
	k := book(t)
	for _, text := range []string{
		"the ferry to Lerrick leaves at seven", "please call me back about the printer", "hello", "is", "12", "???",
	} {
		if got := k.Book.Match(text, 1); len(got) > 0 && got[0].Share > 0.2 {
			t.Errorf("%q is taken for %q, %.0f %%", text, got[0].Message.Says, 100*got[0].Share)
		}
	}
}

func ExampleBook_Match() {
	b := messages.New([]*messages.Message{
		{
			ID:   "root",
			Says: "Kernel panic - not syncing: VFS: Unable to mount root fs on unknown-block({number})",
			By:   "the kernel",
		},
		{ID: "loader", Says: "error: no such partition.", By: "the loader"},
	})
	for _, m := range b.Match("colonel panic not sinking unable to mound route", 1) {
		fmt.Println(m.Message.ID)
	}
	// Output: root
}

func BenchmarkMatch(b *testing.B) {
	k := book(b)
	for b.Loop() {
		k.Book.Match("after the update it says colonel panic not sinking vfs unable to mound route fs on unknown block", 3)
	}
}

// A word or two stand in what much else says too: none of them alone makes a message likely, unless that is all that
// the message says. What was read out of the middle of a long one leads to it, and to all that say the same.
func TestAFewWordsDecideLittle(t *testing.T) {
	b := book(t).Book
	for _, m := range book(t).Messages {
		words := strings.FieldsFunc(strings.ToLower(m.Says), func(r rune) bool { return r < 'a' || r > 'z' })
		for _, w := range words {
			for _, hit := range b.Match(w, 1) {
				if hit.Share > 0.5 && len(strings.Fields(hit.Message.Says)) > 2 {
					t.Errorf("%q alone is taken for %q, %.0f %%", w, hit.Message.Says, 100*hit.Share)
				}
			}
		}
	}
	for words, want := range map[string]string{
		"it says emergency mode": "You are in emergency mode", "not syncing": "Kernel panic - not syncing",
		"unmet dependencies": "nmet dependencies", "certificate verification": "Certificate verification failed",
	} {
		list := b.Match(words, 3)
		if len(list) == 0 || !strings.Contains(list[0].Message.Says, want) || list[0].Share < 0.15 {
			t.Errorf("%q: %+v", words, list)
		}
	}
}
