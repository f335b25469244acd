package plain_test

import (
	"encoding/json"
	"strings"
	"testing"

	"diorthos/core/plain"
)

// What is taken out of JSON is the NULs alone: what only looks like one, as the end of a path, stays.
func TestNULsAreTakenOutOfJSON(t *testing.T) {
	for text, want := range map[string]string{
		"a\x00b\x00": "a\ufffdb\ufffd", `C:\u0000`: `C:\u0000`, `\\` + "\x00": `\\` + "\ufffd", "": "", "plain": "plain",
		"\x00": "\ufffd", `\` + "\x00" + `\u0000`: `\` + "\ufffd" + `\u0000`,
	} {
		raw, err := json.Marshal(map[string]string{text: text})
		if err != nil {
			t.Fatal(err)
		}
		if holds := plain.NULIn(raw) >= 0; holds != strings.Contains(text, "\x00") || holds == plain.Text(text) {
			t.Errorf("%q: NUL %t, plain %t", text, holds, plain.Text(text))
		}
		var got map[string]string
		if err := json.Unmarshal(plain.WithoutNUL(raw), &got); err != nil || got[want] != want {
			t.Errorf("%q became %q, want %q: %v", text, got, want, err)
		}
	}
	if plain.Text("\xff") || plain.NULIn([]byte("{}\x00")) != 2 {
		t.Error("broken UTF-8 is called plain, or a NUL as it is was not found")
	}
}
