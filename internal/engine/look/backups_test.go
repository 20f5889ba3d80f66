package look

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"verbund/internal/backup"
	"verbund/internal/core/memory"
	"verbund/internal/engine/sessiontest"
)

// Backups that somebody else has taken, of a memory that several share, are said to be elsewhere,
// and not to be none.
func TestBackupsAway(t *testing.T) {
	s := sessiontest.Session(t)
	folder, _ := s.Store.BackupsAt()
	here, older, newer := "20261127-090000-v1.37.2"+backup.Suffix, "20261128-090000-v1.37.2"+backup.Suffix, "20261129-090000-v1.37.2"+backup.Suffix
	if err := errors.Join(os.MkdirAll(folder, 0o700), os.WriteFile(filepath.Join(folder, here), nil, 0o600)); err != nil {
		t.Fatal(err)
	}
	v := &View{Known: memory.New()}
	v.Known.Backups[here] = memory.BackupNote{}
	if got := backupsAway(s, v); got != nil {
		t.Errorf("what is here is away: %+v", got)
	}
	v.Known.Backups[newer] = memory.BackupNote{Copies: []memory.Copy{{To: "/mnt/vault"}, {To: "oci://registry.boards.test/tides"}}}
	v.Known.Backups[older] = memory.BackupNote{Copies: []memory.Copy{{To: "/mnt/elsewhere"}}}
	if got := backupsAway(s, v); got == nil || got.Count != 2 || got.Newest != newer || !slices.Equal(got.At, []string{"/mnt/vault", "oci://registry.boards.test/tides"}) {
		t.Errorf("%+v", got)
	}
	if got := backupsAway(s, &View{}); got != nil {
		t.Errorf("of no memory: %+v", got)
	}
}
