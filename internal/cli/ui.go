package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"unicode/utf8"

	"github.com/charmbracelet/lipgloss"
	"golang.org/x/term"
)

// The terminal policy: colour only for state (good, attention, bad), only on a
// terminal, never with NO_COLOR or --no-color; redrawing only on a terminal
// that says it can; standard error tells the progress, standard output the data.
type ui struct {
	a                    *app
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

func newUI(a *app) *ui {
	u := &ui{a: a}
	plain := a.noColor || os.Getenv("NO_COLOR") != "" || os.Getenv("TERM") == "dumb"
	_, o := isTerminal(a.out)
	_, e := isTerminal(a.err)
	u.outColour, u.errColour = o && !plain, e && !plain
	u.live = e && os.Getenv("TERM") != "dumb" && a.output != "json" && !a.quiet
	r := lipgloss.NewRenderer(io.Discard)
	r.SetColorProfile(2) // the terminal's own sixteen colours
	if plain {
		r.SetColorProfile(3)
	}
	u.good = r.NewStyle().Foreground(lipgloss.Color("2"))
	u.attention = r.NewStyle().Foreground(lipgloss.Color("3"))
	u.bad = r.NewStyle().Foreground(lipgloss.Color("1")).Bold(true)
	u.faint = r.NewStyle().Faint(true)
	return u
}

// width of the terminal behind w, or 0 when it is none.
func width(w any) int {
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

func (u *ui) json(v any) error {
	e := json.NewEncoder(u.a.out)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// say writes a line of progress.
func (u *ui) say(format string, args ...any) {
	if !u.a.quiet && u.a.output != "json" {
		fmt.Fprintf(u.a.err, format+"\n", args...)
	}
}

// problem writes what went wrong.
func (u *ui) problem(msg string) {
	head, rest, _ := strings.Cut(msg, "\n")
	if u.errColour {
		head = u.bad.Render("error:") + " " + head
	} else {
		head = "error: " + head
	}
	fmt.Fprintln(u.a.err, strings.TrimRight(head+"\n"+rest, "\n"))
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

// table prints rows under lower-case headings, two spaces between columns. On
// a narrow terminal the last column is cut, never the others.
func (u *ui) table(head []string, rows [][]cell) {
	w := make([]int, len(head))
	for i, h := range head {
		w[i] = utf8.RuneCountInString(h)
	}
	for _, r := range rows {
		for i, c := range r {
			w[i] = max(w[i], utf8.RuneCountInString(c.text))
		}
	}
	limit := width(u.a.out)
	line := func(cs []cell, style func(cell, string) string) {
		var b strings.Builder
		used := 0
		for i, c := range cs {
			lines := []string{c.text}
			if i < len(cs)-1 {
				lines[0] += strings.Repeat(" ", w[i]-utf8.RuneCountInString(c.text))
			} else if limit > 20 && used+utf8.RuneCountInString(c.text) > limit {
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
			if used += w[i] + 2; i < len(cs)-1 {
				b.WriteString("  ")
			}
		}
		fmt.Fprintln(u.a.out, strings.TrimRight(b.String(), " "))
	}
	line(cells(head...), func(_ cell, s string) string { return u.faint.Render(s) })
	for _, r := range rows {
		line(r, u.paint)
	}
}

// leastFold is the width below which lines are not folded: what does not fit
// then is for the terminal to break.
const leastFold = 16

// fold breaks a text between words into lines of at most so many characters. A
// word that is longer has a line of its own.
func fold(text string, room int) []string {
	if room < leastFold {
		return []string{text}
	}
	var lines []string
	at := 0
	for _, word := range strings.Fields(text) {
		n := utf8.RuneCountInString(word)
		if len(lines) == 0 || at+1+n > room {
			lines, at = append(lines, word), n
			continue
		}
		lines[len(lines)-1] += " " + word
		at += 1 + n
	}
	return lines
}

// errDeclined says that the person did not want it.
var errDeclined = errors.New("nothing was changed")

// ask asks a question that names the cluster. Without a terminal it refuses.
func (a *app) ask(question string) error {
	if a.yes {
		return nil
	}
	if _, ok := isTerminal(a.in); !ok {
		return usage("this changes things, and there is no terminal to ask at; say --yes if it is to be done")
	}
	fmt.Fprintf(a.err, "%s [y/N] ", question)
	line, err := bufio.NewReader(a.in).ReadString('\n')
	if err != nil || !strings.HasPrefix(strings.ToLower(strings.TrimSpace(line)), "y") {
		return &exit{exitFailed, errDeclined}
	}
	return nil
}

// askByName wants the cluster's name, because something could be lost.
func (a *app) askByName(cluster, what string) error {
	if a.confirm == cluster {
		return nil
	}
	if a.confirm != "" {
		return usage("--confirm %s does not name the cluster, which is %s", a.confirm, cluster)
	}
	if _, ok := isTerminal(a.in); !ok {
		return usage("%s; say --confirm %s if that is meant", what, cluster)
	}
	fmt.Fprintf(a.err, "%s\nWrite the cluster's name to go on: ", what)
	line, err := bufio.NewReader(a.in).ReadString('\n')
	if err != nil || strings.TrimSpace(line) != cluster {
		return &exit{exitFailed, fmt.Errorf("that is not the cluster's name; %w", errDeclined)}
	}
	return nil
}
