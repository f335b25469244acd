package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"diorthos/core/bag"
)

// diskMap draws a disk to scale: its partitions between the two copies of the
// table, with the damaged copy marked.
func (p *page) diskMap(d bag.Disk) {
	d.Partitions = slices.Clone(d.Partitions) // as they lie on the disk, not as they are numbered
	slices.SortFunc(d.Partitions, func(a, b bag.Partition) int { return cmp.Compare(a.Offset, b.Offset) })
	left, right := p.copyMark("primary GPT", d.Primary), p.copyMark("backup GPT", d.Backup)
	width := p.width - 4
	if d.Style != "gpt" {
		left, right = "MBR", ""
	}
	gap := width - text.StringWidthWithoutEscSequences(left) - text.StringWidthWithoutEscSequences(right)
	p.line("  %s%s%s", left, strings.Repeat(" ", max(1, gap)), right)
	cells := widths(d, width-2)
	var top, middle, bottom strings.Builder
	at := int64(0)
	for i, part := range d.Partitions {
		if hole := cells.gaps[i]; hole > 0 && part.Offset > at {
			top.WriteString(strings.Repeat("─", hole))
			middle.WriteString(strings.Repeat("░", hole))
			bottom.WriteString(strings.Repeat("─", hole))
		}
		w := cells.parts[i]
		label := fmt.Sprintf("%d %s", part.Number, part.Role)
		if part.Role == "" || part.Role == "data" {
			label = fmt.Sprintf("%d %s", part.Number, part.Content.Kind)
		}
		top.WriteString("┬" + strings.Repeat("─", w-1))
		middle.WriteString("│" + fit(" "+label, w-1))
		bottom.WriteString("┴" + strings.Repeat("─", w-1))
		at = part.Offset + part.Size
	}
	rest := max(0, width-2-text.StringWidthWithoutEscSequences(middle.String()))
	lead := "█"
	if d.Style == "gpt" && d.Primary.State != "sound" {
		lead = p.bad("▲")
	}
	tail := "█"
	if d.Style == "gpt" && d.Backup.State != "sound" {
		tail = p.bad("▲")
	}
	p.line("  ┌%s%s┐", top.String(), strings.Repeat("─", rest))
	p.line("  %s%s%s%s", lead, middle.String(), strings.Repeat("░", rest), tail)
	p.line("  └%s%s┘", bottom.String(), strings.Repeat("─", rest))
}

func (p *page) copyMark(name string, c bag.TableCopy) string {
	if c.State == "sound" {
		return name + " " + p.good(markGood+" sound")
	}
	return name + " " + p.bad(markBroken+" "+string(c.State))
}

type cellWidths struct{ gaps, parts []int }

// widths shares the columns out by size; nothing gets so narrow that its
// label is lost.
func widths(d bag.Disk, total int) cellWidths {
	const least = 9
	c := cellWidths{gaps: make([]int, len(d.Partitions)), parts: make([]int, len(d.Partitions))}
	free := total - least*len(d.Partitions)
	at, largest := int64(0), 0
	for i, part := range d.Partitions {
		scale := func(n int64) int { return int(float64(n) / float64(max(d.Size, 1)) * float64(max(free, 0))) }
		if gap := part.Offset - at; gap > 0 {
			c.gaps[i] = scale(gap)
		}
		c.parts[i] = least + scale(part.Size)
		at = part.Offset + part.Size
		total -= c.gaps[i] + c.parts[i]
		if part.Size > d.Partitions[largest].Size {
			largest = i
		}
	}
	if len(c.parts) > 0 { // what rounding left over
		c.parts[largest] += max(0, total-int(float64(d.Size-at)/float64(max(d.Size, 1))*float64(max(free, 0))))
	}
	return c
}

func fit(s string, w int) string {
	if n := len([]rune(s)); n > w {
		return string([]rune(s)[:max(0, w-1)]) + "…"
	}
	return s + strings.Repeat(" ", w-len([]rune(s)))
}

// partitions lists what lies where.
func (p *page) partitions(d bag.Disk) {
	if len(d.Partitions) == 0 {
		p.line("  no partitions can be read")
		return
	}
	var rows [][]string
	for _, part := range d.Partitions {
		holds := part.Content.Kind
		if holds == "" {
			holds = "nothing known"
		}
		if part.Content.Label != "" {
			holds += " \"" + part.Content.Label + "\""
		}
		use := string(part.Role)
		if part.Mount != "" {
			use += " at " + part.Mount
		}
		if part.System != nil {
			use = "system: " + part.System.Name
		}
		free := ""
		if part.Content.Free >= 0 && part.Content.Kind != "" {
			free = size(part.Content.Free)
		}
		active := ""
		if part.Active {
			active = "active"
		}
		rows = append(rows, []string{
			fmt.Sprintf("  %d", part.Number), fmt.Sprint(part.First), fmt.Sprint(part.Last), size(part.Size), free, part.Type,
			holds, strings.TrimSpace(use + " " + active),
		})
	}
	p.table([]string{"  №", "first", "last", "size", "free", "type", "holds", "used as"}, rows, 2, 3, 4, 5)
}

// innerVolumes lists what lies inside partitions.
func (p *page) innerVolumes(d bag.Disk) {
	if len(d.Volumes) == 0 {
		return
	}
	p.line("")
	var rows [][]string
	for _, v := range d.Volumes {
		use := string(v.Role)
		if v.Mount != "" {
			use += " at " + v.Mount
		}
		if v.System != nil {
			use = "system: " + v.System.Name
		}
		free := ""
		if v.Content.Free >= 0 && v.Content.Kind != "" {
			free = size(v.Content.Free)
		}
		rows = append(rows, []string{
			fmt.Sprintf("  %d", v.Number), string(v.Kind), v.Name, strings.Trim(fmt.Sprint(v.Within), "[]"), size(v.Size), free,
			cmp.Or(v.Content.Kind, "nothing known"), use,
		})
	}
	head := []string{"  №", "inside the partitions", "name", "within", "size", "free", "holds", "used as"}
	p.table(head, rows, 3, 4, 5)
	for _, v := range d.Volumes {
		if v.Problem != "" {
			p.hangingIndent("  "+markOdd+" ", fmt.Sprintf("%s: %s", v.Name, v.Problem))
		}
	}
}
