package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"unicode"
	"unicode/utf8"

	"verbund/internal/store"

	"github.com/charmbracelet/lipgloss"
	"golang.org/x/term"
)

// The terminal policy: colour only for state (good, attention, bad), only on a
// terminal, never with NO_COLOR or --no-color; redrawing only on a terminal
// that says it can; standard error tells the progress, standard output the data.
type ui struct {
	in       io.Reader
	out, err io.Writer
	output   string // text or json
	yes      bool
	confirm  string // the cluster's name, said beforehand
	quiet    bool
	verbose  bool
	noColor  bool

	soft, hard context.Context   // until somebody interrupts, and until they do so again
	asking     atomic.Bool       // somebody is being asked something
	onEntry    func(store.Entry) // also gets every journal entry

	outColour, errColour bool
	live                 bool // standard error is a terminal that can redraw
	good, attention, bad lipgloss.Style
	faint                lipgloss.Style
}

func isTerminal(w any) (int, bool) {
	f, ok := w.(*os.File)
	if !ok {
		return 0, false
	}
	return int(f.Fd()), term.IsTerminal(int(f.Fd()))
}

// style finds out what the terminal can do, once the flags are known.
func (u *ui) style() {
	plain := u.noColor || os.Getenv("NO_COLOR") != "" || os.Getenv("TERM") == "dumb"
	_, o := isTerminal(u.out)
	_, e := isTerminal(u.err)
	u.outColour, u.errColour = o && !plain, e && !plain
	u.live = e && os.Getenv("TERM") != "dumb" && u.output != "json" && !u.quiet
	r := lipgloss.NewRenderer(io.Discard)
	r.SetColorProfile(2) // the terminal's own sixteen colours
	if plain {
		r.SetColorProfile(3)
	}
	u.good = r.NewStyle().Foreground(lipgloss.Color("2"))
	u.attention = r.NewStyle().Foreground(lipgloss.Color("3"))
	u.bad = r.NewStyle().Foreground(lipgloss.Color("1")).Bold(true)
	u.faint = r.NewStyle().Faint(true)
}

// width of the terminal behind w, or 0 when it is none. COLUMNS says another one.
func width(w any) int {
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n > 0 {
		return n
	}
	fd, ok := isTerminal(w)
	if !ok {
		return 0
	}
	n, _, err := term.GetSize(fd)
	if err != nil {
		return 0
	}
	return n
}

// usualHeight is how many lines are taken for a screen where there is no terminal.
const usualHeight = 50

// height of the terminal behind w, in lines.
func height(w any) int {
	fd, ok := isTerminal(w)
	if !ok {
		return usualHeight
	}
	_, n, err := term.GetSize(fd)
	if err != nil {
		return usualHeight
	}
	return n
}

func (u *ui) json(v any) error {
	e := json.NewEncoder(u.out)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// list is a list as JSON has it: never null.
func list[T any](x []T) []T {
	if x == nil {
		return []T{}
	}
	return x
}

// say writes a line of progress.
func (u *ui) say(format string, args ...any) {
	if !u.quiet && u.output != "json" {
		fmt.Fprintln(u.err, u.fitting(visible(fmt.Sprintf(format, args...))))
	}
}

// visible shows control characters as what they are: what machines, and people's pods,
// say must not move the cursor, set titles or clear the screen of who reads it.
func visible(s string) string {
	if !strings.ContainsFunc(s, hidden) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if hidden(r) {
			fmt.Fprintf(&b, "\\x%02x", r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// hidden are the control characters that do something on a terminal, but for the ends of
// lines and tabs, and those with which text can be made to read backwards.
func hidden(r rune) bool {
	return unicode.IsControl(r) && r != '\n' && r != '\t' || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069
}

// fitting breaks what is said on a terminal between words, line by line; anywhere
// else lines stay whole, for programs that read them.
func (u *ui) fitting(text string) string {
	if _, ok := isTerminal(u.err); !ok {
		return text
	}
	var out []string
	for l := range strings.SplitSeq(text, "\n") {
		out = append(out, fold(l, width(u.err))...)
	}
	return strings.Join(out, "\n")
}

// problem writes what went wrong.
func (u *ui) problem(msg string) {
	text := strings.TrimRight(u.fitting(visible("error: "+msg)), "\n")
	if u.errColour {
		text = strings.Replace(text, "error:", u.bad.Render("error:"), 1)
	}
	fmt.Fprintln(u.err, text)
}

// cell is one field of a table with its state: "", "good", "attention", "bad".
type cell struct{ text, state string }

func plain(s string) cell { return cell{s, ""} }

func cells(ss ...string) []cell {
	var out []cell
	for _, s := range ss {
		out = append(out, plain(s))
	}
	return out
}

func (u *ui) paint(c cell, text string) string {
	switch c.state {
	case "good":
		return u.good.Render(text)
	case "attention":
		return u.attention.Render(text)
	case "bad":
		return u.bad.Render(text)
	}
	return text
}

// table prints rows under lower-case headings, two spaces between columns. Where
// they do not fit, columns give way in the order that is given; then the last one
// is broken between words, beside the others or, when hardly any room is left
// there, below them.
func (u *ui) table(head []string, rows [][]cell, gives ...string) {
	for _, r := range rows {
		for i := range r {
			r[i].text = visible(r[i].text)
		}
	}
	limit := width(u.out)
	shown := make([]int, len(head))
	w := make([]int, len(head))
	for i, h := range head {
		shown[i], w[i] = i, utf8.RuneCountInString(h)
		for _, r := range rows {
			if i < len(r) {
				w[i] = max(w[i], utf8.RuneCountInString(r[i].text))
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
	line := func(cs []cell, style func(cell, string) string) {
		var b strings.Builder
		used := 0
		for n, i := range shown {
			if i >= len(cs) {
				break
			}
			c, last := cs[i], n == len(shown)-1
			lines := []string{c.text}
			switch {
			case !last:
				lines[0] += strings.Repeat(" ", w[i]-utf8.RuneCountInString(c.text))
			case below:
				b.WriteString("\n  ")
				used = 2
				lines = fold(c.text, limit-used)
			case limit > 0:
				lines = fold(c.text, limit-used)
			}
			for j, t := range lines {
				if j > 0 {
					b.WriteString("\n" + strings.Repeat(" ", used))
				}
				if u.outColour {
					t = style(c, t)
				}
				b.WriteString(t)
			}
			if used += w[i] + 2; !last {
				b.WriteString("  ")
			}
		}
		fmt.Fprintln(u.out, trimLines(b.String()))
	}
	line(cells(head...), func(_ cell, s string) string { return u.faint.Render(s) })
	for _, r := range rows {
		line(r, u.paint)
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

// field is one line of what is told of a single thing.
type field struct {
	name string
	cell cell
}

// fields tells a single thing: names on the left, text that is broken between
// words on the right.
func (u *ui) fields(rows []field) {
	w := 0
	for _, r := range rows {
		w = max(w, utf8.RuneCountInString(r.name))
	}
	limit := width(u.out)
	for _, r := range rows {
		r.cell.text = visible(r.cell.text)
		lines := []string{r.cell.text}
		if limit > 0 {
			lines = fold(r.cell.text, limit-w-2)
		}
		for i, l := range lines {
			name := ""
			if i == 0 {
				name = r.name
			}
			if u.outColour {
				l = u.paint(r.cell, l)
			}
			fmt.Fprintln(u.out, strings.TrimRight(name+strings.Repeat(" ", w-utf8.RuneCountInString(name)+2)+l, " "))
		}
	}
}

// leastFold is the least width into which text is broken: with less a column goes
// below the others, and a terminal that has not even that breaks lines itself.
const leastFold = 16

// fold breaks a text between words into lines of at most so many characters. A
// word that is longer has a line of its own. Blanks at the head stay.
func fold(text string, room int) []string {
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
