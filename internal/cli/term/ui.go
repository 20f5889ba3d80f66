package term

import (
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/charmbracelet/lipgloss"
	"golang.org/x/term"

	"verbund/internal/store"
)

func Seconds(d time.Duration) string {
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	}
	if rest := d % time.Minute; rest >= time.Second {
		return fmt.Sprintf("%d min %.0f s", d/time.Minute, rest.Seconds())
	}
	return fmt.Sprintf("%d min", d/time.Minute)
}

// Remaining says in words how long something still lives.
func Remaining(until time.Time) Cell {
	switch d := time.Until(until); {
	case until.IsZero():
		return Cell{"never ends", "bad"}
	case d <= 0:
		return Cell{"ended at " + until.Local().Format("15:04 on 2006-01-02"), "bad"}
	case d < time.Minute:
		return Cell{"ends within a minute", "attention"}
	case d < 2*time.Hour:
		return Cell{fmt.Sprintf("%d more minutes, until %s", int(d/time.Minute), until.Local().Format("15:04")), ""}
	case d < 48*time.Hour:
		return Cell{fmt.Sprintf("%d more hours, until %s", int(d.Round(time.Hour)/time.Hour), until.Local().Format("15:04 on 2006-01-02")), ""}
	default:
		return Cell{fmt.Sprintf("%d more days, until %s", int(d/(24*time.Hour)), until.Local().Format(time.DateOnly)), "attention"}
	}
}

// Few names the first of several, and says how many there are besides; -o json
// has them all.
func Few(names []string) string {
	const most = 4
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most-1], ", "), len(names)-most+1)
}

// The terminal policy: colour only for state (good, attention, bad), only on a
// terminal, never with NO_COLOR or --no-color; redrawing only on a terminal
// that says it can; standard error tells the progress, standard output the data.
type UI struct {
	In       io.Reader
	Out, Err io.Writer
	Output   string // text or json
	Yes      bool
	Confirm  string // the cluster's name, said beforehand
	Quiet    bool
	Verbose  bool
	NoColor  bool

	Soft, Hard context.Context   // until somebody interrupts, and until they do so again
	Asking     atomic.Bool       // somebody is being asked something
	OnEntry    func(store.Entry) // also gets every journal entry

	OutColour, ErrColour bool
	Live                 bool // standard error is a terminal that can redraw
	Good, Attention, Bad lipgloss.Style
	Faint                lipgloss.Style
}

func IsTerminal(w any) (int, bool) {
	f, ok := w.(*os.File)
	if !ok {
		return 0, false
	}
	return int(f.Fd()), term.IsTerminal(int(f.Fd()))
}

// Style finds out what the terminal can do, once the flags are known.
func (u *UI) Style() {
	plain := u.NoColor || os.Getenv("NO_COLOR") != "" || os.Getenv("TERM") == "dumb"
	_, o := IsTerminal(u.Out)
	_, e := IsTerminal(u.Err)
	u.OutColour, u.ErrColour = o && !plain, e && !plain
	u.Live = e && os.Getenv("TERM") != "dumb" && u.Output != "json" && !u.Quiet
	r := lipgloss.NewRenderer(io.Discard)
	r.SetColorProfile(2) // the terminal's own sixteen colours
	if plain {
		r.SetColorProfile(3)
	}
	u.Good = r.NewStyle().Foreground(lipgloss.Color("2"))
	u.Attention = r.NewStyle().Foreground(lipgloss.Color("3"))
	u.Bad = r.NewStyle().Foreground(lipgloss.Color("1")).Bold(true)
	u.Faint = r.NewStyle().Faint(true)
}

// Width of the terminal behind w, or 0 when it is none. COLUMNS says another one.
func Width(w any) int {
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n > 0 {
		return n
	}
	fd, ok := IsTerminal(w)
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

// Height of the terminal behind w, in lines.
func Height(w any) int {
	fd, ok := IsTerminal(w)
	if !ok {
		return usualHeight
	}
	_, n, err := term.GetSize(fd)
	if err != nil {
		return usualHeight
	}
	return n
}

func (u *UI) JSON(v any) error {
	e := json.NewEncoder(u.Out)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// List is a list as JSON has it: never null.
func List[T any](x []T) []T {
	if x == nil {
		return []T{}
	}
	return x
}

// Say writes a line of progress.
func (u *UI) Say(format string, args ...any) {
	if !u.Quiet && u.Output != "json" {
		fmt.Fprintln(u.Err, u.Fitting(Visible(fmt.Sprintf(format, args...))))
	}
}

// Visible shows control characters as what they are: what machines, and people's pods,
// say must not move the cursor, set titles or clear the screen of who reads it.
func Visible(s string) string {
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

// Fitting breaks what is said on a terminal between words, line by line; anywhere
// else lines stay whole, for programs that read them.
func (u *UI) Fitting(text string) string {
	if _, ok := IsTerminal(u.Err); !ok {
		return text
	}
	var out []string
	for l := range strings.SplitSeq(text, "\n") {
		out = append(out, fold(l, Width(u.Err))...)
	}
	return strings.Join(out, "\n")
}

// Problem writes what went wrong.
func (u *UI) Problem(msg string) {
	text := strings.TrimRight(u.Fitting(Visible("error: "+msg)), "\n")
	if u.ErrColour {
		text = strings.Replace(text, "error:", u.Bad.Render("error:"), 1)
	}
	fmt.Fprintln(u.Err, text)
}

// Cell is one field of a table with its state: "", "good", "attention", "bad".
type Cell struct{ Text, State string }

func Plain(s string) Cell { return Cell{s, ""} }

func Cells(ss ...string) []Cell {
	var out []Cell
	for _, s := range ss {
		out = append(out, Plain(s))
	}
	return out
}

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
				lines = fold(c.Text, limit-used)
			case limit > 0:
				lines = fold(c.Text, limit-used)
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
			lines = fold(r.Cell.Text, limit-w-2)
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

// ShortDigest leaves of a digest what one can compare by eye.
func ShortDigest(v string) string {
	if hex, ok := strings.CutPrefix(v, "sha256:"); ok && len(hex) == 64 {
		return "sha256:" + hex[:12] + "…"
	}
	return v
}
