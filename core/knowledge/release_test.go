package knowledge_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"diorthos/core/knowledge"
	"diorthos/core/units"
)

const harbour = `id: harbour-2
family: harbour
title: Harbour 2
version: '2'
source: the release notes
published: 2026-01-05
support-until: 2028-01-05
upgrade-from: ['1']
requires:
`

func TestABadReleaseIsRefusedWithItsPlace(t *testing.T) {
	for want, text := range map[string]string{
		"needs id, family":    strings.Replace(harbour, "source: the release notes\n", "", 1),
		"want a date such as": strings.Replace(harbour, "2028-01-05", "soon", 1),
		"at-least, should":    harbour + "  - {id: a, title: b, measure: facts.hardware.memory}\n",
		"want a number, or": harbour +
			"  - {id: a, title: b, measure: facts.hardware.memory, at-least: a lot}\n",
		"want B, KiB, MiB": harbour +
			"  - {id: a, title: b, measure: facts.hardware.memory, at-least: 5 furlongs}\n",
		"is \"memory\" meant?":              harbour + "  - {id: a, title: b, measure: facts.hardware.memroy, at-least: 5}\n",
		"releases/harbour.yaml:10: release": harbour + "  - {id: a, title: b, measure: facts.hardwear, at-least: 5}\n",
		"requirement \"a\"":                 harbour + "  - {id: a, title: b, measure: '1 +', at-least: 5}\n",
		"unknown field \"nice\"": harbour +
			"  - {id: a, title: b, measure: facts.hardware.memory, at-least: 5, nice: 1}\n",
	} {
		_, err := knowledge.Load(fstest.MapFS{"releases/harbour.yaml": {Data: []byte(text)}})
		if err == nil || !strings.Contains(err.Error(), want) || !strings.Contains(err.Error(), "releases/harbour.yaml") {
			t.Errorf("%v: want %q", err, want)
		}
	}
}

func TestARequirementMeasuresNumbersAndWords(t *testing.T) {
	k, err := knowledge.Load(fstest.MapFS{"releases/harbour.yaml": {Data: []byte(harbour +
		`  - {id: room, title: Room, measure: facts.hardware.memory, unit: bytes, at-least: 1 KiB, should: 2 KiB}
  - {id: kind, title: Kind, measure: facts.machine.model, one-of: [deep, calm], when: facts.surveyed}
`)}})
	if err != nil {
		t.Fatal(err)
	}
	room, kind := &k.Releases[0].Requires[0], &k.Releases[0].Requires[1]
	if room.Wanted() != "1.0 KiB, better 2.0 KiB" || kind.Wanted() != "deep, calm" {
		t.Errorf("%q %q", room.Wanted(), kind.Wanted())
	}
	for n, want := range map[int64]knowledge.Measured{
		500:  {Known: true, Text: "500 B"},
		1024: {Known: true, Text: "1.0 KiB", Meets: true},
		4096: {Known: true, Text: "4.0 KiB", Meets: true, Enough: true},
		0:    {}, // not measured
	} {
		if got := room.Take(map[string]any{"hardware": map[string]any{"memory": n}}); got != want {
			t.Errorf("%d: %+v", n, got)
		}
	}
	if got := room.Take(map[string]any{}); got.Known {
		t.Errorf("measured what is not there: %+v", got)
	}
	if got := kind.Take(map[string]any{"machine": map[string]any{"model": "rough"}}); !got.Known || got.Meets {
		t.Errorf("%+v", got)
	}
	if kind.Applies(map[string]any{}) || !kind.Applies(map[string]any{"surveyed": true}) || !room.Applies(nil) {
		t.Error("when is not heeded")
	}
}

func TestSizesAreRead(t *testing.T) {
	for text, want := range map[string]int64{
		"0":       0,
		"512":     512,
		"512 MiB": 512 << 20,
		"1.5 GiB": 3 << 29,
		"2 TiB":   2 << 40,
	} {
		if got, err := units.ParseBytes(text); err != nil || got != want {
			t.Errorf("%q: %d %v", text, got, err)
		}
	}
	for _, text := range []string{"", "-1", "5 MB", "1e30", "9999999999 TiB", "x GiB"} {
		if got, err := units.ParseBytes(text); err == nil {
			t.Errorf("%q was read as %d", text, got)
		}
	}
}
