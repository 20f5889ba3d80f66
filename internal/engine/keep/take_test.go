package keep

import (
	"io"
	"testing"

	"verbund/internal/core/declare"
	"verbund/internal/engine/sessiontest"
)

// Two backups of one second have different names, and are told apart by them.
func TestFreeNames(t *testing.T) {
	s := sessiontest.Session(t)
	s.Decl = &declare.Declaration{Name: "tidewatch"}
	for _, want := range []string{"20261127-090000-v1.37.2.backup.age", "20261127-090000-v1.37.2-2.backup.age", "20261127-090000-v1.37.2-3.backup.age"} {
		name := free(s, "20261127-090000-v1.37.2")
		if name != want {
			t.Errorf("%s, wanted %s", name, want)
		}
		if _, err := s.Store.SaveBackup(name, func(w io.Writer) error { _, err := io.WriteString(w, "x"); return err }, func(io.Reader) error { return nil }); err != nil {
			t.Fatal(err)
		}
	}
	for name, ok := range map[string]bool{"before-the-fair": true, "v1.37": true, "newest": false, "": false, "Fair": false, "a b": false, "-a": false, "../x": false} {
		if err := CheckName(name); (err == nil) != ok {
			t.Errorf("%q: %v", name, err)
		}
	}
}
