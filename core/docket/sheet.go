package docket

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"strings"
	texttemplate "text/template"
	"time"

	"diorthos/core/knowledge"
)

// A Sheet is what a technician takes along who has no network: exact for one
// machine, to print or to read.
type Sheet struct {
	Case    int64
	Docket  *Docket
	Printed time.Time
}

//go:embed sheet.md.tmpl
var sheetMarkdown string

//go:embed sheet.html.tmpl
var sheetHTML string

var sheetWords = map[string]any{
	"size":    func(n int64) string { return fmt.Sprintf("%.1f MiB (%.1f MB)", float64(n)/(1<<20), float64(n)/1e6) },
	"percent": func(p float64) string { return fmt.Sprintf("%.0f %%", 100*p) },
	"when":    func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") },
	"lines":   func(s string) []string { return strings.Split(s, "\n") },
	"loses":   func(i knowledge.Invasiveness) bool { return i == knowledge.Destroys },
	"cell":    func(s string) string { return strings.NewReplacer("|", "\\|", "\n", " ").Replace(s) },
}

// Markdown writes the sheet as Markdown.
func (s Sheet) Markdown(w io.Writer) error {
	t, err := texttemplate.New("sheet").Funcs(sheetWords).Parse(sheetMarkdown)
	if err != nil {
		return err
	}
	return t.Execute(w, s)
}

// HTML writes the sheet as one page that needs nothing else and prints on A4.
func (s Sheet) HTML(w io.Writer) error {
	t, err := template.New("sheet").Funcs(sheetWords).Parse(sheetHTML)
	if err != nil {
		return err
	}
	return t.Execute(w, s)
}
