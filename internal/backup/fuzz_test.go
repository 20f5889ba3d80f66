package backup_test

import (
	"bytes"
	"io"
	"testing"

	"filippo.io/age"

	"verbund/internal/backup"
)

// FuzzOpen reads backups of any content, closed for the right identity: none is whole that
// was not written as one.
func FuzzOpen(f *testing.F) {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		f.Fatal(err)
	}
	f.Add([]byte{})
	f.Add(bytes.Repeat([]byte{0}, 1024))
	f.Fuzz(func(t *testing.T, plain []byte) {
		var b bytes.Buffer
		w, err := age.Encrypt(&b, id.Recipient())
		if err != nil {
			t.Fatal(err)
		}
		w.Write(plain)
		w.Close()
		r, err := backup.Open(&b, id)
		if err == nil && r.Verify(io.Discard) == nil && len(plain) < 4096 {
			t.Errorf("%d bytes are a whole backup", len(plain))
		}
	})
}
