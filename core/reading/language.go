package reading

import (
	"bytes"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"diorthos/core/catalogue"
)

// A Language is one in which tools may log, with fixed pieces of frequent
// messages by which it is suspected.
type Language struct {
	Language string   `yaml:"language"`
	Markers  []string `yaml:"tells"`
}

// A candidate is a language that the reader can learn when it meets it.
type candidate struct {
	language string
	decoder  func() *decoder
}

// A decoder is a language that was learned.
type decoder struct {
	translator *catalogue.Translator
	find       prefilter // of the translator's anchors

	mu      sync.Mutex
	finders map[string]func() *finder // by dialect
}

// Languages are those in which logs may be, besides the original one.
type Languages struct {
	Known []Language
	// Catalogues is called for one when a log is suspected to be in it, and at
	// most once.
	Catalogues func(language string) [][]catalogue.Message
}

// learn makes the candidates ready.
func (r *Reader) learn(l Languages) {
	var markers [][]string
	for _, known := range l.Known {
		markers = append(markers, known.Markers)
		r.candidates = append(r.candidates, &candidate{known.Language, sync.OnceValue(func() *decoder {
			return newDecoder(known.Language, l.Catalogues(known.Language))
		})})
	}
	r.suspect = newPrefilter(markers)
}

func newDecoder(language string, catalogues [][]catalogue.Message) *decoder {
	t := catalogue.NewTranslator(language, catalogues...)
	var anchors [][]string
	for _, a := range t.Anchors() {
		anchors = append(anchors, []string{a})
	}
	return &decoder{translator: t, find: newPrefilter(anchors), finders: map[string]func() *finder{}}
}

// maxCatalogue bounds a catalogue that is handed in, in bytes.
const maxCatalogue = 8 << 20

// broughtAlong learns the languages of the catalogues among the sources, and
// returns the other sources. The language is the folder's name:
// de/LC_MESSAGES/dpkg.mo, or de/dpkg.mo. One that is damaged is left out.
func broughtAlong(sources []Source) (logs []Source, list []*decoder) {
	by := map[string][][]catalogue.Message{}
	for _, src := range sources {
		if path.Ext(src.Name) != ".mo" {
			logs = append(logs, src)
			continue
		}
		dir := strings.TrimSuffix(path.Dir(src.Name), "/LC_MESSAGES")
		if messages := readCatalogue(src); messages != nil {
			by[path.Base(dir)] = append(by[path.Base(dir)], messages)
		}
	}
	for _, language := range slices.Sorted(maps.Keys(by)) {
		list = append(list, newDecoder(language, by[language]))
	}
	return logs, list
}

func readCatalogue(src Source) []catalogue.Message {
	in, err := src.Open()
	if err != nil {
		return nil
	}
	defer func() { _ = in.Close() }() // it was only read
	raw, err := io.ReadAll(io.LimitReader(in, maxCatalogue))
	if err != nil {
		return nil
	}
	list, err := catalogue.Read(raw)
	if err != nil {
		return nil
	}
	return list
}

func (s *decoder) original(line string) (string, bool) {
	return s.translator.Original(line, append([]int{}, s.find.matching(line)...))
}

// finder looks for the language's messages as well.
func (s *decoder) finder(r *Reader, d *Dialect) func() *finder {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.finders[d.ID] == nil {
		s.finders[d.ID] = sync.OnceValue(func() *finder { return newFinder(r.lexicon, d, r.lists, s.translator.Anchors()) })
	}
	return s.finders[d.ID]
}

// languageOf finds the language in which most first lines of the sources surely
// are; nil for the original one. Sources that cannot be read say nothing.
func (r *Reader) languageOf(sources []Source, brought []*decoder) *decoder {
	var best *decoder
	votes := map[*decoder]int{}
	for _, src := range sources {
		for _, line := range firstLines(src) {
			suspects := brought
			for _, i := range r.suspect.matching(line) {
				suspects = append(suspects[:len(suspects):len(suspects)], r.candidates[i].decoder())
			}
			for _, s := range suspects {
				if s.translator.Tells(line, s.find.matching(line)) {
					votes[s]++
				}
			}
		}
	}
	inOrder := brought // and then the others, so that equal reports are equal
	for _, t := range r.candidates {
		for s := range votes {
			if s.translator.Language == t.language && !slices.Contains(brought, s) {
				inOrder = append(inOrder[:len(inOrder):len(inOrder)], s)
			}
		}
	}
	for _, s := range inOrder {
		if votes[s] > 0 && (best == nil || votes[s] > votes[best]) {
			best = s
		}
	}
	return best
}

func firstLines(src Source) []string {
	if src.Size < 0 {
		return nil // it can be read only once
	}
	in, err := OpenPlain(src)
	if err != nil {
		return nil
	}
	defer func() { _ = in.Close() }() // it was only read
	head := make([]byte, headSize)
	n, _ := fill(in, head) // what can be read is enough
	var lines []string
	for _, l := range bytes.Split(head[:n], []byte("\n")) {
		lines = append(lines, clean(l))
	}
	return lines
}
