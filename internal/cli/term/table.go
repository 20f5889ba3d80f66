package term

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// Cell is one field of a table with its state: "", "good", "attention", "bad".
type Cell struct{ Text, State string }

// Plain is a cell without a state.
func Plain(s string) Cell { return Cell{s, ""} }

// Cells are cells without a state.
func Cells(ss ...string) []Cell {
	var out []Cell
	for _, s := range ss {
		out = append(out, Plain(s))
	}
	return out
}

// Paint gives a text the colour of a cell's state.
func (u *UI) Paint(c Cell, text string) string {
	switch c.State {
	case "good":
		return u.Good.Render(text)
	case "attention":
		return u.Attention.Render(text)
	case "bad":
		return u.Bad.Render(text)
	}
	return text
}

// Table prints rows under lower-case headings, two spaces between columns. Where
// they do not fit, columns give way in the order that is given; then the last one
// is broken between words, beside the others or, when hardly any room is left
// there, below them.
func (u *UI) Table(head []string, rows [][]Cell, gives ...string) {
	for _, r := range rows {
		for i := range r {
			r[i].Text = Visible(r[i].Text)
		}
	}
	limit := Width(u.Out)
	shown := make([]int, len(head))
	w := make([]int, len(head))
	for i, h := range head {
		shown[i], w[i] = i, utf8.RuneCountInString(h)
		for _, r := range rows {
			if i < len(r) {
				w[i] = max(w[i], utf8.RuneCountInString(r[i].Text))
			}
		}
	}
	// room is what is left for the last column beside the others.
	room := func() int {
		used := 0
		for _, i := range shown[:len(shown)-1] {
			used += w[i] + 2
		}
		return limit - used
	}
	for _, g := range gives {
		if limit == 0 || room() >= w[shown[len(shown)-1]] || len(shown) < 2 {
			break
		}
		shown = slices.DeleteFunc(shown, func(i int) bool { return head[i] == g })
	}
	below := limit > 0 && room() < min(w[shown[len(shown)-1]], leastFold)
	line := func(cs []Cell, style func(Cell, string) string) {
		var b strings.Builder
		used := 0
		for n, i := range shown {
			if i >= len(cs) {
				break
			}
			c, last := cs[i], n == len(shown)-1
			lines := []string{c.Text}
			switch {
			case !last:
				lines[0] += strings.Repeat(" ", w[i]-utf8.RuneCountInString(c.Text))
			case below:
				b.WriteString("\n  ")
				used = 2
				lines = Fold(c.Text, limit-used)
			case limit > 0:
				lines = Fold(c.Text, limit-used)
			}
			for j, t := range lines {
				if j > 0 {
					b.WriteString("\n" + strings.Repeat(" ", used))
				}
				if u.OutColour {
					t = style(c, t)
				}
				b.WriteString(t)
			}
			if used += w[i] + 2; !last {
				b.WriteString("  ")
			}
		}
		fmt.Fprintln(u.Out, trimLines(b.String()))
	}
	line(Cells(head...), func(_ Cell, s string) string { return u.Faint.Render(s) })
	for _, r := range rows {
		line(r, u.Paint)
	}
}

// trimLines takes the blanks from the ends of lines, and lines that are empty then.
func trimLines(s string) string {
	var out []string
	for l := range strings.SplitSeq(s, "\n") {
		if l = strings.TrimRight(l, " "); l != "" || len(out) == 0 {
			out = append(out, l)
		}
	}
	return strings.Join(out, "\n")
}

// Field is one line of what is told of a single thing.
type Field struct {
	Name string
	Cell Cell
}

// Fields tells a single thing: names on the left, text that is broken between
// words on the right.
func (u *UI) Fields(rows []Field) {
	w := 0
	for _, r := range rows {
		w = max(w, utf8.RuneCountInString(r.Name))
	}
	limit := Width(u.Out)
	for _, r := range rows {
		r.Cell.Text = Visible(r.Cell.Text)
		lines := []string{r.Cell.Text}
		if limit > 0 {
			lines = Fold(r.Cell.Text, limit-w-2)
		}
		for i, l := range lines {
			name := ""
			if i == 0 {
				name = r.Name
			}
			if u.OutColour {
				l = u.Paint(r.Cell, l)
			}
			fmt.Fprintln(u.Out, strings.TrimRight(name+strings.Repeat(" ", w-utf8.RuneCountInString(name)+2)+l, " "))
		}
	}
}

// leastFold is the least width into which text is broken: with less a column goes
// below the others, and a terminal that has not even that breaks lines itself.
const leastFold = 16

// Fold breaks a text between words into lines of at most so many characters. A
// word that is longer has a line of its own. Blanks at the head stay.
func Fold(text string, room int) []string {
	if room < leastFold || utf8.RuneCountInString(text) <= room {
		return []string{text}
	}
	var lines []string
	at := 0
	head := text[:len(text)-len(strings.TrimLeft(text, " "))]
	for _, word := range strings.Fields(text) {
		n := utf8.RuneCountInString(word)
		if len(lines) == 0 || at+1+n > room {
			lines, at = append(lines, head+word), len(head)+n
			continue
		}
		lines[len(lines)-1] += " " + word
		at += 1 + n
	}
	return lines
}

// Hang is a head with a text after it that is broken between words at a width, and goes on
// below where it began. Beside a head that leaves little room it goes on a little way in.
func Hang(head, text string, width int) string {
	const little, least = 8, 24
	in := utf8.RuneCountInString(head)
	if width <= 0 || in+utf8.RuneCountInString(text) <= width {
		return head + text
	}
	lines := Fold(text, width-in)
	if width-in < least && in > little {
		lines, in = append([]string{""}, Fold(text, width-little)...), little
	}
	return strings.TrimRight(head+lines[0], " ") + strings.Join(append([]string{""}, lines[1:]...), "\n"+strings.Repeat(" ", in))
}
