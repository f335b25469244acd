package codes

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"
)

// The model of slips, by which suggestions are ranked. A code that is passed
// on suffers one slip: with the probability given, a digit is lost, doubled,
// swapped with its neighbour, taken for one that looks or sounds alike, or
// struck wrong altogether. Two slips are possible and each as unlikely as the
// product says. Within a kind, every place and every alike digit is as likely
// as any other.
const (
	pLost    = 0.25
	pDoubled = 0.15
	pSwapped = 0.20
	pAlike   = 0.30
	pStruck  = 0.10 // any digit for any other
)

// alike lists for each digit those that are taken for it, by eye or by ear.
var alike = map[byte]string{
	'0': "oq8d", '1': "il7", '8': "b03", '5': "s6", '2': "z7", '6': "g5b", '9': "gq4", '7': "12", '3': "8e", '4': "9a",
	'a': "4", 'b': "8d6", 'c': "ge", 'd': "b0", 'e': "3c", 'f': "e7",
}

// A spelling is one way in which a known code is written.
type spelling struct {
	text   string // digits alone, lower case, without prefix
	family int
	bits   uint64
}

// A Suggestion is a known code that may have been meant.
type Suggestion struct {
	Reading
	Slip  string  `json:"slip"`  // what must have happened
	Share float64 `json:"share"` // of the likelihood, among all suggestions
}

// spell lists how the codes of a family are written: in the family's own
// form, and the 32-bit ones as signed decimals too.
func (t *Table) spell(f Family) {
	at := slices.IndexFunc(t.families, func(o Family) bool { return o.ID == f.ID })
	add := func(text string, bits uint64) {
		t.known = append(t.known, spelling{strings.TrimPrefix(strings.ToLower(text), "0x"), at, bits})
	}
	codes := make([]uint64, 0, len(f.Entries))
	for _, e := range f.Entries {
		codes = append(codes, e.Value)
	}
	if f.Carries != nil {
		for n := range t.index[f.Carries.Family] {
			codes = append(codes, f.Carries.Base|n)
		}
	}
	slices.Sort(codes)
	for _, bits := range codes {
		switch {
		case f.Layout == LayoutWords:
		case f.Layout == LayoutFields && f.Slashed:
			for key := range uint64(16) {
				add(strings.ReplaceAll(t.write(f, key<<16|bits), "/", ""), key<<16|bits)
			}
		default:
			add(t.write(f, bits), bits)
			if f.Bits == 32 {
				add(fmt.Sprint(-int64(int32(uint32(bits)))), bits)
			}
		}
	}
}

// spoken are the words by which digits are read aloud.
var spoken = strings.NewReplacer(
	"double oh", "00", "double o", "00", "double zero", "00", "triple zero", "000", "triple oh", "000", "zero x", "0x",
	"oh x", "0x",
	"double one", "11", "double two", "22", "double three", "33", "double four", "44", "double five",
	"55", "double six", "66", "double seven", "77", "double eight", "88", "double nine", "99",
	"zero", "0", "one", "1",
	"two", "2", "three", "3", "four", "4", "five", "5", "six", "6", "seven", "7", "eight", "8", "nine", "9",
	"ay", "a",
	"bee", "b", "see", "c", "dee", "d", "oh", "0", "hex", "",
)

// Normalise takes away what is not part of a code: spaces, dashes, a prefix,
// and the words of somebody who reads it aloud.
func Normalise(s string) string {
	text := spoken.Replace(strings.ToLower(strings.TrimSpace(s)))
	text = strings.NewReplacer(" ", "", "-", "", "_", "", "/", "", ".", "", ",", "", ":", "").Replace(text)
	for _, prefix := range []string{"0x", "ox", "x"} {
		if rest, ok := strings.CutPrefix(text, prefix); ok {
			return rest
		}
	}
	return text
}

// Suggest lists known codes that s may have been meant as, the likeliest
// first, most at the most. A code that is right is not among them.
func (t *Table) Suggest(s string, most int) []Suggestion {
	seen := Normalise(s)
	if seen == "" || len(seen) > 24 || len(seen) < 4 && !strings.ContainsAny(seen, "0123456789") {
		return nil // a short word such as "is" is no number
	}
	text, misread := repaired(seen)
	best := map[string]Suggestion{}
	total := 0.0
	for _, k := range t.known {
		if k.text == seen {
			continue
		}
		p, slip := likelihood(k.text, seen)
		if misread > 0 {
			if q, said := mislettered(k.text, text); q > p {
				p, slip = q, said
			}
		}
		if p == 0 {
			continue
		}
		f := t.families[k.family]
		key := f.ID + t.write(f, k.bits)
		if old, ok := best[key]; ok && old.Share >= p {
			continue
		}
		total += p - best[key].Share
		best[key] = Suggestion{Reading: t.readingOf(f, k.bits), Slip: slip, Share: p}
	}
	list := make([]Suggestion, 0, len(best))
	for _, g := range best {
		g.Share /= total
		list = append(list, g)
	}
	sort.Slice(list, func(i, k int) bool {
		if math.Abs(list[i].Share-list[k].Share) > 1e-12 {
			return list[i].Share > list[k].Share
		}
		return list[i].Family+list[i].Value < list[k].Family+list[k].Value
	})
	return list[:min(len(list), most)]
}

func (t *Table) readingOf(f Family, bits uint64) Reading {
	form := Decimal
	if f.Slashed {
		form = Slashed
	} else if f.Layout == LayoutFields {
		form = Hex
	}
	r, _ := t.decodeIn(f, Value{int64(bits), form})
	return r
}

// likelihood is the probability that meant is passed on as seen by one slip,
// and which. It is 0 when one slip cannot do it, or, for codes of eight digits
// or more, two.
func likelihood(meant, seen string) (float64, string) {
	if p, slip := oneSlip(meant, seen); p > 0 {
		return p, slip
	}
	if len(meant) < 8 || len(seen) < len(meant)-2 || len(seen) > len(meant)+2 {
		return 0, ""
	}
	return twoSlips(meant, seen)
}

// letters that are no digits in any base, and the digits that they are taken
// for.
var letters = map[rune]rune{'o': '0', 'q': '0', 'i': '1', 'l': '1', 'z': '2', 's': '5', 'g': '9'}

// repaired puts digits in the place of letters that cannot be digits, and
// counts them.
func repaired(seen string) (text string, count int) {
	return strings.Map(func(r rune) rune {
		if d, ok := letters[r]; ok {
			count++
			return d
		}
		return r
	}, seen), count
}

// mislettered is likelihood for a code in which several digits were taken for
// letters, which text has put right: whoever takes one 0 for an O takes the
// next for one as well.
func mislettered(meant, text string) (float64, string) {
	const said = "letters stand for digits"
	if text == meant {
		return pAlike / 2, said
	}
	p, slip := oneSlip(meant, text)
	return p * pAlike / 2, said + ", and " + slip
}

// oneSlip compares two texts that differ in one place.
func oneSlip(meant, seen string) (float64, string) {
	n := len(meant)
	i := 0
	for i < n && i < len(seen) && meant[i] == seen[i] {
		i++
	}
	switch len(seen) {
	case n - 1:
		if meant[i+1:] == seen[i:] {
			// Losing any digit of a run looks the same.
			return pLost / float64(n) * float64(run(meant, i)), fmt.Sprintf("a %c is missing", meant[i])
		}
	case n + 1:
		if i > 0 && seen[i] == meant[i-1] && meant[i:] == seen[i+1:] {
			return pDoubled / float64(n) * float64(run(meant, i-1)), fmt.Sprintf("the %c is doubled", seen[i])
		}
	case n:
		switch {
		case i == n:
			return 0, ""
		case i+1 < n && meant[i] == seen[i+1] && meant[i+1] == seen[i] && meant[i+2:] == seen[i+2:]:
			return pSwapped / float64(n-1), fmt.Sprintf("%c and %c are swapped", meant[i], meant[i+1])
		case meant[i+1:] != seen[i+1:]:
			return 0, ""
		case strings.IndexByte(alike[meant[i]], seen[i]) >= 0:
			return (pAlike/float64(len(alike[meant[i]])) + pStruck/15) / float64(n), fmt.Sprintf(
				"%c was taken for %c", meant[i], seen[i],
			)
		case isDigit(seen[i]):
			return pStruck / 15 / float64(n), fmt.Sprintf("%c was struck for %c", seen[i], meant[i])
		}
	}
	return 0, ""
}

func isDigit(b byte) bool { return b >= '0' && b <= '9' || b >= 'a' && b <= 'f' }

// run is the length of the run of equal digits around place i.
func run(s string, i int) int {
	from, to := i, i
	for from > 0 && s[from-1] == s[i] {
		from--
	}
	for to+1 < len(s) && s[to+1] == s[i] {
		to++
	}
	return to - from + 1
}

// twoSlips cuts both texts where the first slip is done and leaves the other
// to oneSlip.
func twoSlips(meant, seen string) (float64, string) {
	i := 0
	for i < len(meant) && i < len(seen) && meant[i] == seen[i] {
		i++
	}
	best, said := 0.0, ""
	try := func(part string, rest, restSeen int) {
		if rest > len(meant) || restSeen > len(seen) || i >= len(meant) {
			return
		}
		first, slip := oneSlip(meant[:rest]+part, seen[:restSeen]+part)
		second, slip2 := oneSlip(meant[rest:], seen[restSeen:])
		if p := first * second * 0.2; p > best {
			best, said = p, slip+", and "+slip2
		}
	}
	try("", i+1, i+1) // struck or alike
	try("", i+2, i+2) // swapped
	try("", i+1, i)   // lost
	try("", i, i+1)   // doubled
	return best, said
}
