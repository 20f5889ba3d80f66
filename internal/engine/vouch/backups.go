package vouch

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"

	"verbund/internal/store"
)

// IdentityFile held the key that opens the backups beside it, before it was
// closed like the store.
const IdentityFile = "identity.txt"

// BackupIdentity is what opens the backups. It is kept beside them, closed like
// the store; one from before that lay there in plain is closed now.
func BackupIdentity(st *store.Store) (*age.X25519Identity, error) {
	b, err := st.OpenAside()
	var closed *store.Closed
	if errors.As(err, &closed) {
		// Backups of an earlier life of the cluster lie there, which another key
		// opens: they keep theirs.
		aside := filepath.Join(st.BackupDir(), store.Aside)
		b, err = nil, os.Rename(aside, strings.TrimSuffix(aside, ".age")+"-until-"+time.Now().UTC().Format("20060102-150405")+".age")
	}
	if err != nil {
		return nil, err
	}
	before := filepath.Join(st.BackupDir(), IdentityFile)
	if b == nil {
		if b, err = os.ReadFile(before); err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, err
		}
		if b == nil {
			id, err := age.GenerateX25519Identity()
			if err != nil {
				return nil, err
			}
			b = fmt.Appendf(nil, "# opens the backups in this folder\n# public key: %s\n%s\n", id.Recipient(), id)
		}
		if err := st.CloseAside(b); err != nil {
			return nil, err
		}
		if err := os.Remove(before); err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, err
		}
	}
	return ReadIdentity(b)
}

// ReadIdentity reads the key that opens backups, as it is kept beside them.
func ReadIdentity(b []byte) (*age.X25519Identity, error) {
	for line := range strings.Lines(string(b)) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			return age.ParseX25519Identity(line)
		}
	}
	return nil, fmt.Errorf("%s holds no identity", store.Aside)
}
