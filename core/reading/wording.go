package reading

import (
	"regexp"
	"slices"
	"strings"
)

// wordings are what newer releases of a tool say in place of what knowledge is written for. A line that begins so is read
// as the older one, and shown as it is.
var wordings = []struct {
	*regexp.Regexp
	means string
}{
	{regexp.MustCompile(`^(?:Error|Fehler|Erreur|Erro)[ \x{a0}]?: `), "E: "},
	{regexp.MustCompile(`^(?:Warning|Warnung|Attention|Aviso)[ \x{a0}]?: `), "W: "},
	{regexp.MustCompile(`^(?:Notice|Hinweis|Notification|Nota)[ \x{a0}]?: `), "N: "},
	{
		regexp.MustCompile(`^(?:Unsatisfied dependencies|Nichterfüllte Abhängigkeiten|Dependências não satisfeitas|` +
			`Impossible de satisfaire les dépendances)[ \x{a0}]?:[ \x{a0}]*$`),
		"The following packages have unmet dependencies:",
	},
	{
		regexp.MustCompile(`^(?:Not upgrading(?: yet.*)?|Aktualisiere nicht|Pas mis à jour|Não atualizando)[ \x{a0}]?:$`),
		"The following packages have been kept back:",
	},
	{
		regexp.MustCompile(`^(?:Auflösen von Abhängigkeiten|Résolution des dépendances|Resolvendo dependências)\W+` +
			`(?:Fehler|Erreur|Erro)[ \x{a0}]?!$`),
		"Solving dependencies... Error!",
	},
	{regexp.MustCompile(`^Err[ \x{a0}]: ?(\d+) `), "Err:$1 "},
	{
		regexp.MustCompile(`^ *Upgrading: (\d+), Installing: (\d+), Removing: (\d+), Not Upgrading: (\d+)$`),
		"$1 upgraded, $2 newly installed, $3 to remove and $4 not upgraded.",
	},
}

// newerWords are lines by which a newer release of the tool is known, whatever else stands in a text.
var newerWords = regexp.MustCompile(`^(?:Solving dependencies\.\.\.|Unsatisfied dependencies:|Summary:$|Installing:$|Upgrading:$|` +
	`Removing:$|REMOVING:$| *Upgrading: \d+, Installing: |(?:Fehler|Erreur|Erro|Warnung|Attention)[ \x{a0}]?: |` +
	`(?:Zusammenfassung|Sommaire|Resumo)[ \x{a0}]?:$)`)

// scriptsBegin and scriptsEnd are lines between which a package's own scripts speak, who begin a line as they like.
var (
	scriptsBegin = regexp.MustCompile(`^(?:Setting up|Removing|Purging configuration files for|Preparing to unpack|` +
		`Processing triggers for) `)
	scriptsEnd = regexp.MustCompile(`^(?:dpkg[a-z-]*: |Errors were encountered |Unpacking |Selecting previously )`)
)

// older is a line in the older words, and whether there are others for it.
func older(line string) (string, bool) {
	for _, w := range wordings {
		if w.MatchString(line) {
			return w.ReplaceAllString(line, w.means), true
		}
	}
	return line, false
}

// OnlyReworded reports whether a record means, in older words, what it says: there is nothing to translate for people.
func OnlyReworded(said, means string) bool {
	first, rest, _ := strings.Cut(said, "\n")
	before, ok := older(first)
	meant, more, _ := strings.Cut(means, "\n")
	return ok && before == meant && rest == more
}

// saysNewly reports whether a text is in the words of newer releases: it holds lines that only they have, or something is
// known of a line in the older words.
func (r *Reader) saysNewly(lines []string) bool {
	said := false
	for _, l := range lines {
		l = shown(l)
		if strings.HasPrefix(l, "E: ") || strings.HasPrefix(l, "W: ") {
			return false
		}
		said = said || newerWords.MatchString(l) || r.knownAs(l)
	}
	before := mapped(lines, func(l string) string {
		l, _ = older(shown(l))
		return l
	})
	return said && r.familiar(nil, before) >= r.familiar(nil, lines) // or another log says so in its own way
}

// knownAs reports whether something is known of a line in the older words.
func (r *Reader) knownAs(line string) bool {
	before, ok := older(line)
	if !ok {
		return false
	}
	head, _, _ := strings.Cut(before, ": ")
	others := r.Hits(head + ": x") // by the first word alone nothing is known
	return slices.ContainsFunc(r.Hits(before), func(id string) bool { return !slices.Contains(others, id) })
}

// reword gives a line in the older words where it is the tool's own. What a script says is left alone.
func (t *taking) reword(line string) string {
	text := shown(line)
	switch {
	case scriptsBegin.MatchString(text):
		t.script = true
	case scriptsEnd.MatchString(text):
		t.script = false
	}
	before, ok := older(text)
	if !ok || t.script && !strings.HasPrefix(before, "E: Sub-process ") {
		return line
	}
	return before
}
