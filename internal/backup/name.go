package backup

import (
	"strings"
	"time"
)

// stamp is how the names of backups' files begin: when each was taken, in UTC.
const stamp = "20060102-150405"

// FileName is the name of a backup's file: when it was taken, of which version, and a word that
// tells it from others; empty: none.
func FileName(m Manifest, word string) string {
	as := m.Taken.UTC().Format(stamp) + "-" + m.Kubernetes
	if word != "" {
		as += "-" + word
	}
	return as + Suffix
}

// TakenAt says by the name of a backup's file when it was taken; false of anything else. What
// counts stands in its manifest.
func TakenAt(name string) (time.Time, bool) {
	if !strings.HasSuffix(name, Suffix) || len(name) < len(stamp) {
		return time.Time{}, false
	}
	t, err := time.Parse(stamp, name[:len(stamp)])
	return t, err == nil
}
