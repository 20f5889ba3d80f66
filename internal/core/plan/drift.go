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
	if len(x) == 0 && len(y) == 0 {
		return []string{path + ": only its mode or its last line break"}
	}
	if len(x)*len(y) > 1<<20 {
		return []string{fmt.Sprintf("%s: lines %d to %d are others", path, head+1, head+len(y))}
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
	var out []string
	i, j := 0, 0
	for i < len(x) || j < len(y) {
		switch {
		case i < len(x) && j < len(y) && x[i] == y[j]:
			i, j = i+1, j+1
		case i < len(x) && j < len(y) && common[i+1][j+1] == common[i][j]:
			found, declared := apart(y[j], x[i])
			out = append(out, fmt.Sprintf("%s:%d: found %q, declared %q", path, head+j+1, found, declared))
			i, j = i+1, j+1
		case j < len(y) && (i == len(x) || common[i][j+1] >= common[i+1][j]):
			out = append(out, fmt.Sprintf("%s:%d: found %q, which is not declared", path, head+j+1, short(y[j])))
			j++
		default:
			out = append(out, fmt.Sprintf("%s:%d: declared %q is missing", path, head+j+1, short(x[i])))
			i++
		}
	}
	if len(out) > maxLines {
		out = append(out[:maxLines], fmt.Sprintf("%s: and %d more lines", path, len(out)-maxLines))
	}
	return out
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
