package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"diorthos/core/units"
)

// Marks are the shapes that stand beside a word, so that nothing depends on
// colour.
const (
	markBroken = "▲"
	markOdd    = "◆"
	markGood   = "✓"
	markNone   = "·"
)

// A page lays out text for a person: as wide as the terminal, with colour
// only where there is one.
type page struct {
	w      io.Writer
	width  int
	colour bool
}

func newPage(c *cli.Command) *page {
	p := &page{w: sanitizingWriter{c.Root().Writer}, width: 100}
	if f, ok := c.Root().Writer.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w >= 40 {
			p.width = min(w, 120)
		}
		p.colour = os.Getenv("NO_COLOR") == ""
	}
	return p
}

func (p *page) paint(c text.Colors, s string) string {
	if !p.colour {
		return s
	}
	return append(text.Colors{ours}, c...).Sprint(s)
}

func (p *page) strong(s string) string { return p.paint(text.Colors{text.Bold}, s) }
func (p *page) faint(s string) string  { return p.paint(text.Colors{text.Faint}, s) }
func (p *page) bad(s string) string    { return p.paint(text.Colors{text.FgRed}, s) }
func (p *page) good(s string) string   { return p.paint(text.Colors{text.FgGreen}, s) }

func (p *page) line(format string, a ...any) { _, _ = fmt.Fprintf(p.w, format+"\n", a...) }

// head begins a section.
func (p *page) head(title string) {
	p.line("")
	p.line("%s", p.strong(strings.ToUpper(title)))
}

// para prints text wrapped to the page, indented by n.
func (p *page) para(n int, s string) {
	indent := strings.Repeat(" ", n)
	for _, l := range strings.Split(text.WrapSoft(s, p.width-n), "\n") {
		p.line("%s%s", indent, strings.TrimRight(l, " "))
	}
}

// hangingIndent prints text wrapped behind a lead that stands in the first line.
func (p *page) hangingIndent(lead, s string) {
	n := text.StringWidthWithoutEscSequences(lead)
	for i, l := range strings.Split(text.WrapSoft(s, p.width-n), "\n") {
		if i == 0 {
			p.line("%s%s", lead, strings.TrimRight(l, " "))
		} else {
			p.line("%s%s", strings.Repeat(" ", n), strings.TrimRight(l, " "))
		}
	}
}

// table prints rows under a header with no frame.
// printList prints a list as JSON or as a table; empty is what is said where there is nothing in it.
func printList[T any](
	c *cli.Command, list []T, empty string, header []string, row func(T) []string, right ...int,
) error {
	if done, err := writeJSON(c, list); done {
		return err
	}
	p := newPage(c)
	if len(list) == 0 {
		p.line("%s", empty)
		return nil
	}
	rows := make([][]string, len(list))
	for i, item := range list {
		rows[i] = row(item)
	}
	p.table(header, rows, right...)
	return nil
}

func (p *page) table(header []string, rows [][]string, right ...int) {
	t := table.NewWriter()
	style := table.StyleDefault
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	t.SuppressTrailingSpaces()
	var configs []table.ColumnConfig
	for _, n := range right {
		configs = append(configs, table.ColumnConfig{Number: n, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.SetColumnConfigs(configs)
	t.AppendHeader(asRow(header, p.faint))
	for _, r := range rows {
		t.AppendRow(asRow(r, func(s string) string { return s }))
	}
	p.line("%s", t.Render())
}

func asRow(cells []string, dress func(string) string) table.Row {
	row := make(table.Row, len(cells))
	for i, c := range cells {
		row[i] = dress(c)
	}
	return row
}

func when(t time.Time) string {
	if t.IsZero() {
		return "no time"
	}
	return t.Format("2006-01-02 15:04:05")
}

func size(n int64) string { return units.FormatBytes(n) }

func percent(p float64) string { return units.Percent(p) }

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
