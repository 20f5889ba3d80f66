package plan

import (
	"fmt"
	"strings"
)

// maxLines is how many differing lines of one file are told.
const maxLines = 6

// Lines tells how a file that was found differs from the declared one, line by
// line: enough to see what somebody changed by hand.
func Lines(path, declared, found string) []string {
	d := apartFrom(declared, found)
	switch {
	case d.none():
		return []string{path + ": only its mode or its last line break"}
	case d.large:
		return []string{fmt.Sprintf("%s: lines %d to %d are others", path, d.head+1, d.head+len(d.found))}
	}
	var out []string
	for _, e := range d.edits {
		if blank := func(l *string) bool { return l == nil || strings.TrimSpace(*l) == "" }; blank(e.declared) && blank(e.found) {
			continue // tells nobody anything
		}
		switch {
		case e.declared != nil && e.found != nil:
			found, declared := apart(*e.found, *e.declared)
			out = append(out, fmt.Sprintf("%s:%d: found %q, declared %q", path, e.line, found, declared))
		case e.found != nil:
			out = append(out, fmt.Sprintf("%s:%d: found %q, which is not declared", path, e.line, short(*e.found)))
		default:
			out = append(out, fmt.Sprintf("%s:%d: declared %q is missing", path, e.line, short(*e.declared)))
		}
	}
	if len(out) == 0 {
		return []string{path + ": only its empty lines"}
	}
	if len(out) > maxLines {
		out = append(out[:maxLines], fmt.Sprintf("%s: and %d more lines", path, len(out)-maxLines))
	}
	return out
}

// Declared tells how a file changes that is as it was written, and declared
// otherwise by now: a consequence of what was declared, and nobody's doing on the
// machine.
func Declared(path, declared, found string) string {
	d := apartFrom(declared, found)
	more, fewer := 0, 0
	for _, e := range d.edits {
		if e.declared != nil {
			more++
		}
		if e.found != nil {
			fewer++
		}
	}
	if d.large {
		more, fewer = len(d.declared), len(d.found)
	}
	lines := "lines"
	if more == 1 || more == 0 && fewer == 1 {
		lines = "line"
	}
	switch {
	case fewer == 0:
		return fmt.Sprintf("%s: %s, %d %s more", path, Follows, more, lines)
	case more == 0:
		return fmt.Sprintf("%s: %s, %d %s fewer", path, Follows, fewer, lines)
	}
	return fmt.Sprintf("%s: %s, %d %s more and %d fewer", path, Follows, more, lines, fewer)
}

// Follows is how a line of a step's details says that nobody touched a file.
const Follows = "as it is declared now"

// difference is what two texts do not have in common.
type difference struct {
	head            int // lines that both begin with
	declared, found []string
	large           bool // too much to be told line by line
	edits           []edit
}

// edit is one line of the found text that differs, by its number; either side
// may have none.
type edit struct {
	line            int
	declared, found *string
}

func (d difference) none() bool { return len(d.declared) == 0 && len(d.found) == 0 }

func apartFrom(declared, found string) difference {
	a, b := strings.Split(strings.TrimSuffix(declared, "\n"), "\n"), strings.Split(strings.TrimSuffix(found, "\n"), "\n")
	// What both have at the beginning and at the end is not looked at further.
	head := 0
	for head < len(a) && head < len(b) && a[head] == b[head] {
		head++
	}
	tail := 0
	for tail < len(a)-head && tail < len(b)-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	x, y := a[head:len(a)-tail], b[head:len(b)-tail]
	d := difference{head: head, declared: x, found: y, large: len(x)*len(y) > 1<<20}
	if d.large {
		return d
	}
	// The longest common subsequence of what is left.
	common := make([][]int, len(x)+1)
	for i := range common {
		common[i] = make([]int, len(y)+1)
	}
	for i := len(x) - 1; i >= 0; i-- {
		for j := len(y) - 1; j >= 0; j-- {
			if x[i] == y[j] {
				common[i][j] = common[i+1][j+1] + 1
			} else {
				common[i][j] = max(common[i+1][j], common[i][j+1])
			}
		}
	}
	i, j := 0, 0
	for i < len(x) || j < len(y) {
		e := edit{line: head + j + 1}
		switch {
		case i < len(x) && j < len(y) && x[i] == y[j]:
			i, j = i+1, j+1
			continue
		case i < len(x) && j < len(y) && common[i+1][j+1] == common[i][j]:
			e.declared, e.found = &x[i], &y[j]
			i, j = i+1, j+1
		case j < len(y) && (i == len(x) || common[i][j+1] >= common[i+1][j]):
			e.found = &y[j]
			j++
		default:
			e.declared = &x[i]
			i++
		}
		d.edits = append(d.edits, e)
	}
	return d
}

// apart shortens two lines so that where they differ stays.
func apart(x, y string) (string, string) {
	a, b := []rune(strings.TrimSpace(x)), []rune(strings.TrimSpace(y))
	same := 0
	for same < len(a) && same < len(b) && a[same] == b[same] {
		same++
	}
	const before = 30
	if same > 2*before {
		a, b = append([]rune("…"), a[same-before:]...), append([]rune("…"), b[same-before:]...)
	}
	return short(string(a)), short(string(b))
}

func short(s string) string {
	s = strings.TrimSpace(s)
	if r := []rune(s); len(r) > 80 {
		return string(r[:79]) + "…"
	}
	return s
}
