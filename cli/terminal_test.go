package cli

import (
	"strings"
	"testing"
)

func TestTerminalIsSentTextAndColoursAlone(t *testing.T) {
	for written, want := range map[string]string{
		"Gerät 🚢\tdeck\n":                       "Gerät 🚢\tdeck\n",
		"\x1b[1;31mtheirs\x1b[0m":               "�[1;31mtheirs\x1b[0m",
		"to \u202egpj.exe\u2066 and \u200fback": "to �gpj.exe� and �back",
		(&page{colour: true}).bad("ours"):       "\x1b[31mours\x1b[0m",
		"\x1b]0;owned\x07title":                 "�]0;owned�title",
		"\x1b[2Jgone \x1b[10;10Hmoved":          "�[2Jgone �[10;10Hmoved",
		"back\b\b\bspace\rover\x7f":             "back���space�over�",
		"C1 \u009b2J and its byte \x9b2J alone": "C1 �2J and its byte �2J alone",
		"cut off \x1b[3":                        "cut off �[3",
	} {
		var out strings.Builder
		n, err := sanitizingWriter{&out}.Write([]byte(written))
		if out.String() != want || n != len(written) || err != nil {
			t.Errorf("%q became %q, want %q (%d, %v)", written, out.String(), want, n, err)
		}
	}
}
