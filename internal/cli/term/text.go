package term

import (
	"fmt"
	"strings"
	"time"
	"unicode"
)

// Seconds is a duration as a person says it.
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

// List is a list as JSON has it: never null.
func List[T any](x []T) []T {
	if x == nil {
		return []T{}
	}
	return x
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

// ShortDigest leaves of a digest what one can compare by eye.
func ShortDigest(v string) string {
	if hex, ok := strings.CutPrefix(v, "sha256:"); ok && len(hex) == 64 {
		return "sha256:" + hex[:12] + "…"
	}
	return v
}
