package knowledge_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"diorthos/core/knowledge"
	shipped "diorthos/knowledge"
)

func TestShippedKnowledgeLoads(t *testing.T) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	signed := map[string]bool{}
	for _, s := range k.Signatures {
		signed[s.Cause] = true
	}
	for id := range k.Causes {
		if !signed[id] {
			t.Errorf("no signature points to cause %s", id)
		}
	}
}

func TestEveryShippedCauseIsOfAKind(t *testing.T) {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		t.Fatal(err)
	}
	used := map[string]bool{}
	for _, c := range k.Causes {
		if used[c.Kind] = true; k.Kinds[c.Kind] == nil {
			t.Errorf("%s: kind %q is none", c.ID, c.Kind)
		}
	}
	for id := range k.Kinds {
		if !used[id] {
			t.Errorf("no cause is of the kind %s", id)
		}
	}
}

func TestLoadSaysWhereTheFaultLies(t *testing.T) {
	const cause = "causes:\n  - {id: a, title: A, explains: attempt, prior: 0.1, tell: It is so.}\n"
	for name, c := range map[string]struct{ file, text, want string }{
		"unknown field": {"causes/x.yaml", "causes:\n  - id: a\n    titel: A\n", "causes/x.yaml:3"},
		"no such remedy": {
			"causes/x.yaml", strings.Replace(cause, "tell:", "remedies: [b], tell:", 1), `no remedy is called "b"`,
		},
		"no such cause": {
			"signatures/x.yaml", "signatures:\n  - {id: s, cause: nowhere, events: [{match: disk full, odds: 2}]}\n",
			`no cause is called "nowhere"`,
		},
		"pattern too general": {
			"signatures/x.yaml", "signatures:\n  - {id: s, cause: a, events: [{match: '\\w+', odds: 2}]}\n", "no fixed text",
		},
		"expression": {
			"signatures/x.yaml",
			"signatures:\n  - {id: s, cause: a, facts: [{each: facts.disks, when: it.size >, say: '\"x\"', odds: 2}]}\n",
			"Syntax error",
		},
		"no odds": {
			"signatures/x.yaml", "signatures:\n  - {id: s, cause: a, events: [{match: disk full}]}\n", "needs odds",
		},
		"invasiveness": {
			"remedies/x.yaml",
			"remedies:\n  - {id: r, title: R, invasive: gentle, minutes: 1, helps: 1, by: hands, steps: [{do: a, shows: b}]}\n",
			`invasive "gentle"`,
		},
		"folder": {"recipes/x.yaml", "a: b\n", "knowledge lies in"},
	} {
		t.Run(name, func(t *testing.T) {
			files := fstest.MapFS{
				"lexicon.yaml":  {Data: []byte("errors: [error]\nwarnings: [warning]\n")},
				"causes/a.yaml": {Data: []byte(cause)},
			}
			if c.file == "causes/x.yaml" {
				delete(files, "causes/a.yaml")
			}
			files[c.file] = &fstest.MapFile{Data: []byte(c.text)}
			_, err := knowledge.Load(files)
			if err == nil || !strings.Contains(err.Error(), c.want) ||
				!strings.Contains(err.Error(), strings.SplitN(c.file, "/", 2)[0]) && c.want != "no fixed text" {
				t.Fatalf("got %v, want it to name %s and say %q", err, c.file, c.want)
			}
		})
	}
}

// A site adds codes as a table and replaces a shipped file of the same name.
func TestASiteAddsItsOwn(t *testing.T) {
	site := fstest.MapFS{
		"codes/ticket-printer.csv": {Data: []byte("value,name,text\n" +
			"0x51,PRINTER_JAM,the ticket printer is jammed\n" +
			"82,,\"no paper, or upside down\"\n")},
		"causes/site.yaml": {Data: []byte("causes:\n" +
			"  - {id: gangway-down, title: The gangway is down, explains: attempt, prior: 0.01, tell: Lift it.}\n")},
	}
	k, err := knowledge.Load(shipped.Files, site)
	if err != nil {
		t.Fatal(err)
	}
	e := k.Codes.Explain("0x52")
	found := false
	for _, taken := range e.Taken {
		for _, r := range taken.Readings {
			found = found || r.Family == "ticket-printer" && r.Text == "no paper, or upside down"
		}
	}
	if !found || k.Causes["gangway-down"] == nil {
		t.Errorf("%+v", e)
	}
	for name, bad := range map[string]string{
		"no text":   "value,name\n1,x\n",
		"no number": "value,text\nx1,y\n",
		"empty":     "value,text\n",
		"uneven":    "value,text\n1\n",
	} {
		if _, err := knowledge.ReadCodeTable("codes/x.csv", []byte(bad)); err == nil ||
			!strings.Contains(err.Error(), "codes/x.csv") {
			t.Errorf("%s: %v", name, err)
		}
	}
}
