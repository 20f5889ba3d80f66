package term

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/charmbracelet/lipgloss"
	"golang.org/x/term"
)

// UI is the terminal, or the pipe, that a person or a program reads. Its policy: colour only for state (good, attention, bad), only on a
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

	saying sync.Mutex
	said   []string // while the output is JSON

	Soft, Hard context.Context // until somebody interrupts, and until they do so again
	Asking     atomic.Bool     // somebody is being asked something

	OutColour, ErrColour bool
	Live                 bool // standard error is a terminal that can redraw
	Good, Attention, Bad lipgloss.Style
	Faint                lipgloss.Style
}

// IsTerminal says whether a stream is a terminal, and of which file.
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
	// Of a terminal's own sixteen colours yellow cannot be read on white, nor blue on black. Where
	// there are more, those are taken that have a contrast of four and more on either (WCAG 2.2, 1.4.3
	// wants three for what is large, and bold).
	good, attention, bad := lipgloss.Color("2"), lipgloss.Color("5"), lipgloss.Color("1")
	r.SetColorProfile(2)
	if strings.Contains(os.Getenv("TERM"), "256") || os.Getenv("COLORTERM") != "" {
		good, attention, bad = lipgloss.Color("29"), lipgloss.Color("130"), lipgloss.Color("160")
		r.SetColorProfile(1)
	}
	if plain {
		r.SetColorProfile(3)
	}
	u.Good = r.NewStyle().Foreground(good)
	u.Attention = r.NewStyle().Foreground(attention)
	u.Bad = r.NewStyle().Foreground(bad).Bold(true)
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

// Say writes a line of progress.
func (u *UI) Say(format string, args ...any) {
	switch text := Visible(fmt.Sprintf(format, args...)); {
	case u.Output == "json":
		u.saying.Lock()
		defer u.saying.Unlock()
		u.said = append(u.said, text)
	case !u.Quiet:
		fmt.Fprintln(u.Err, u.Fitting(text))
	}
}

// Fitting breaks what is said on a terminal between words, line by line; anywhere
// else lines stay whole, for programs that read them.
func (u *UI) Fitting(text string) string {
	var out []string
	for l := range strings.SplitSeq(text, "\n") {
		out = append(out, Fold(l, u.room())...)
	}
	return strings.Join(out, "\n")
}

// Hanging is a head with a text after it, broken like that below where the text began.
func (u *UI) Hanging(head, text string) string { return Hang(head, text, u.room()) }

// room is how wide the terminal is to which it is said; 0 where there is none.
func (u *UI) room() int {
	if _, ok := IsTerminal(u.Err); !ok {
		return 0
	}
	return Width(u.Err)
}

// Problem writes what went wrong, and the exit code if the command ends with it.
func (u *UI) Problem(msg string, exit int) {
	if u.Output == "json" {
		json.NewEncoder(u.Err).Encode(Trouble{msg, exit})
		return
	}
	text := strings.TrimRight(u.Fitting(Visible("error: "+msg)), "\n")
	if u.ErrColour {
		text = strings.Replace(text, "error:", u.Bad.Render("error:"), 1)
	}
	fmt.Fprintln(u.Err, text)
}
