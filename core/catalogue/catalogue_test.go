package catalogue_test

import (
	"errors"
	"io/fs"
	"path"
	"testing"

	"diorthos/core/catalogue"
	shipped "diorthos/knowledge"
)

func translator(t testing.TB, language string) *catalogue.Translator {
	t.Helper()
	names, err := fs.Glob(shipped.Files, path.Join("catalogues", language, "*.mo"))
	if err != nil || len(names) < 4 {
		t.Fatalf("%s: %v %v", language, names, err)
	}
	var lists [][]catalogue.Message
	for _, name := range names {
		raw, err := fs.ReadFile(shipped.Files, name)
		if err != nil {
			t.Fatal(err)
		}
		list, err := catalogue.Read(raw)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		lists = append(lists, list)
	}
	return catalogue.NewTranslator(language, lists...)
}

// The lines are as the tools print them in these languages.
func TestMessagesAreBroughtBackWithTheirValues(t *testing.T) {
	for _, c := range []struct{ language, line, want string }{
		{"de", "E: Paket skerrow-gates kann nicht gefunden werden.", "E: Unable to locate package skerrow-gates"},
		{
			"de", "dpkg: Fehler beim Bearbeiten des Paketes skerrow-berth (--configure):",
			"dpkg: error processing package skerrow-berth (--configure):",
		},
		{"fr", "E: Impossible de trouver le paquet skerrow-gates", "E: Couldn't find package skerrow-gates"},
		{"es", "E: No se ha podido localizar el paquete skerrow-gates", "E: Unable to locate package skerrow-gates"},
		{"pt", "E: Não foi possível encontrar o pacote skerrow-gates", "E: Unable to locate package skerrow-gates"},
		{
			"de", " »/opt/maps« kann nicht angelegt werden: Auf dem Gerät ist kein Speicherplatz mehr verfügbar",
			" unable to create '/opt/maps': No space left on device",
		},
		{"de", "Nothing of this is German.", "Nothing of this is German."},
	} {
		got, changed := translator(t, c.language).Original(c.line, nil)
		if got != c.want || changed != (c.line != c.want) {
			t.Errorf("%s: %q became %q, want %q", c.language, c.line, got, c.want)
		}
	}
}

func TestADamagedCatalogueIsRefused(t *testing.T) {
	raw, err := fs.ReadFile(shipped.Files, "catalogues/de/apt.mo")
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range []int{0, 10, 30, 2000, len(raw) / 2} {
		var bad *catalogue.FormatError
		if _, err := catalogue.Read(raw[:n]); !errors.As(err, &bad) {
			t.Errorf("cut to %d bytes: %v", n, err)
		}
	}
}

func FuzzRead(f *testing.F) {
	raw, err := fs.ReadFile(shipped.Files, "catalogues/pt_BR/libapt-pkg6.0.mo")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(raw[:2000])
	f.Add([]byte{
		0x95, 0x04, 0x12, 0xde, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 20, 0, 0, 0, 28, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0,
		0, 0,
	})
	f.Fuzz(func(t *testing.T, raw []byte) {
		list, err := catalogue.Read(raw)
		if err == nil {
			catalogue.NewTranslator("xx", list).Original("100 % of the lines, %s", nil)
		}
	})
}
