package messages

import (
	"math"
	"slices"
	"strings"
	"unicode"
)

// A Message is what a program shows when something fails.
type Message struct {
	ID     string             `yaml:"id" json:"id"`
	Says   string             `yaml:"says" json:"says"` // in the original; {…} stands for what differs
	Code   string             `yaml:"code" json:"code,omitempty"`
	By     string             `yaml:"by" json:"by"`         // who says it
	At     string             `yaml:"at" json:"at"`         // at which link of the start or stage of an attempt
	When   string             `yaml:"when" json:"when"`     // start or attempt
	Causes map[string]float64 `yaml:"causes" json:"causes"` // the share of each among the failures that show it
	Family string             `yaml:"-" json:"family,omitempty"`
}

// A Match is a message that may be meant. Share is how likely, among all messages and
// none of them; the shares of all matches sum to at most 1.
type Match struct {
	Message *Message `json:"message"`
	Share   float64  `json:"share"`
	Fit     float64  `json:"fit"` // of the words, 0 to 1
}

// A Book holds messages, ready to be searched. It is safe for concurrent use.
type Book struct {
	list  []*Message
	words []word           // all that messages hold, each once
	of    [][]int          // by message, its words, each once
	index map[string]int   // by word
	sound map[string][]int // words by how they sound
	size  map[int][]int    // words by their length
}

type word struct {
	text   string
	weight float64 // by how few messages hold it
	sound  string
}

// New makes a book.
func New(list []*Message) *Book {
	b := &Book{list: list, index: map[string]int{}, sound: map[string][]int{}, size: map[int][]int{}}
	held := map[int]int{}
	for _, m := range list {
		var of []int
		for _, w := range split(fixed(m.Says)) {
			i, ok := b.index[w]
			if !ok {
				i = len(b.words)
				b.index[w] = i
				b.words = append(b.words, word{text: w, sound: soundOf(w)})
			}
			if !slices.Contains(of, i) {
				of = append(of, i)
				held[i]++
			}
		}
		b.of = append(b.of, of)
	}
	for i := range b.words {
		w := &b.words[i]
		w.weight = math.Log(1 + float64(len(list))/float64(held[i]))
		if len([]rune(w.text)) < 3 {
			w.weight /= 3
		}
		b.sound[w.sound] = append(b.sound[w.sound], i)
		b.size[len(w.text)] = append(b.size[len(w.text)], i)
	}
	return b
}

// fixed is a message without what differs.
func fixed(says string) string {
	var out strings.Builder
	depth := 0
	for _, r := range says {
		switch {
		case r == '{':
			depth++
			out.WriteByte(' ')
		case r == '}':
			depth--
		case depth <= 0:
			out.WriteRune(r)
		}
	}
	return out.String()
}

// maxWords bounds how much of what somebody pastes is looked at.
const maxWords = 120

// split takes words apart, without regard to case and punctuation.
func split(text string) []string {
	list := strings.FieldsFunc(strings.ToLower(text), func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r)
	})
	return list[:min(len(list), maxWords)]
}

// Match finds the messages that words can mean, the likeliest first, at most so many.
func (b *Book) Match(words string, most int) []Match {
	said := split(words)
	asked, spoken := b.recognise(said), uncommon(said)
	var list []Match
	for i, m := range b.list {
		if fit := max(b.fit(i, asked), excerpt(m.Says, spoken)); fit > 0.2 {
			list = append(list, Match{Message: m, Fit: fit})
		}
	}
	slices.SortStableFunc(list, func(x, y Match) int {
		if x.Fit != y.Fit {
			return sign(y.Fit - x.Fit)
		}
		return len(x.Message.Says) - len(y.Message.Says)
	})
	total := math.Exp(none * steep)
	for _, m := range list {
		total += math.Exp(m.Fit * steep)
	}
	for i := range list {
		list[i].Share = math.Round(1000*math.Exp(list[i].Fit*steep)/total) / 1000
	}
	return list[:min(len(list), most)]
}

const (
	// none is the fit from which a message is likelier meant than none that is known.
	none = 0.45
	// steep is how much a better fit counts.
	steep = 22
)

func sign(x float64) int {
	if x < 0 {
		return -1
	}
	return 1
}

// A heard word is one of the question, with the words of the book that it can be.
type heard struct {
	weight float64
	like   map[int]float64 // by word of the book, how alike, 0 to 1
}

// recognise finds for each word what it can be. Two that stand side by side can be
// one, and one can be two.
func (b *Book) recognise(asked []string) []heard {
	var list []heard
	seen := map[string]bool{}
	for i, w := range asked {
		if seen[w] {
			continue
		}
		seen[w] = true
		h := heard{like: b.alike(w)}
		if i+1 < len(asked) {
			for k, s := range b.alike(w + asked[i+1]) {
				if s > 0.9 {
					h.like[k] = max(h.like[k], s*0.95)
				}
			}
		}
		for cut := 3; cut <= len(w)-3; cut++ {
			x, okX := b.index[w[:cut]]
			y, okY := b.index[w[cut:]]
			if okX && okY {
				h.like[x], h.like[y] = max(h.like[x], 0.9), max(h.like[y], 0.9)
			}
		}
		h.weight = b.weightOf(w, h)
		list = append(list, h)
	}
	return list
}

// weightOf is that of the word that it is likeliest; a word like none in the book is
// the speaker's own, and says little.
func (b *Book) weightOf(w string, h heard) float64 {
	best, weight := 0.0, 0.0
	for i, s := range h.like {
		if s > best || s == best && b.words[i].weight > weight {
			best, weight = s, b.words[i].weight
		}
	}
	if best == 0 {
		return 0.35
	}
	if common[w] {
		return weight / 4
	}
	return weight * best
}

// excerpt is the fit of a message of which the words, in a row, are a part: as much as somebody reads out of a long
// one.
func excerpt(says string, spoken []string) float64 {
	if len(spoken) == 0 || len(spoken) == 1 && len(strings.TrimLeft(spoken[0], "0123456789")) < 3 {
		return 0
	}
	of := uncommon(split(fixed(says)))
	for i := range len(of) - len(spoken) + 1 {
		if slices.Equal(of[i:i+len(spoken)], spoken) {
			return excerpts[min(len(spoken), len(excerpts))-1]
		}
	}
	return 0
}

// excerpts are the fits of one word out of a message, of two, and of three and more.
var excerpts = []float64{0.4, 0.52, 0.62}

// uncommon leaves out the words that people put around what they read out.
func uncommon(words []string) []string {
	return slices.DeleteFunc(slices.Clone(words), func(w string) bool { return common[w] })
}

// common are words that people put around what they read out.
var common = setOf("a an the is it says say said and then after before on in of to at for my this that " +
	"with was i we machine screen computer shows message there when nothing else")

func setOf(words string) map[string]bool {
	set := map[string]bool{}
	for _, w := range strings.Fields(words) {
		set[w] = true
	}
	return set
}

// alike are the words of the book that a word can be.
func (b *Book) alike(w string) map[int]float64 {
	out := map[int]float64{}
	if i, ok := b.index[w]; ok {
		out[i] = 1
	}
	for _, i := range b.sound[soundOf(w)] {
		if len(w) > 3 && len(b.words[i].text) > 3 {
			out[i] = max(out[i], 0.8)
		}
	}
	slips := 0
	switch n := len(w); {
	case n >= 9:
		slips = 3
	case n >= 6:
		slips = 2
	case n >= 4:
		slips = 1
	}
	for n := len(w) - slips; slips > 0 && n <= len(w)+slips; n++ {
		for _, i := range b.size[n] {
			if d := distance(w, b.words[i].text, slips); d <= slips {
				out[i] = max(out[i], 1-float64(d)/float64(max(len(w), n))*1.3)
			}
		}
	}
	return out
}

// fit is how well a message goes with what was asked: how much of what was asked is
// in it, and how much of it was asked.
func (b *Book) fit(message int, asked []heard) float64 {
	var have, want float64
	covered := map[int]float64{}
	for _, h := range asked {
		best := 0.0
		at := -1
		for _, i := range b.of[message] { // in one order: sums depend on it
			if s := h.like[i]; s > best {
				best, at = s, i
			}
		}
		have += h.weight * best
		want += h.weight
		if at >= 0 {
			covered[at] = max(covered[at], best)
		}
	}
	if have == 0 {
		return 0
	}
	var told, all float64
	said := 0
	for _, i := range b.of[message] {
		told += b.words[i].weight * covered[i]
		all += b.words[i].weight
		if covered[i] > 0 && !common[b.words[i].text] {
			said++
		}
	}
	fit := math.Pow(have/want, 0.55) * math.Pow(told/all, 0.45)
	if told/all < whole || said == 1 && strings.Contains(b.list[message].Says, "{") {
		fit *= fewWords[min(said, len(fewWords)-1)]
	}
	return fit
}

// whole is the part of a message from which on all of it was said.
const whole = 0.9

// fewWords are how much the fit counts of a message of which so many words were said: a word or two of it are words
// that people say of much else too.
var fewWords = []float64{0, 0.45, 0.9, 1}
