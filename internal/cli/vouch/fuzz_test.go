package vouch

import (
	"bytes"
	"testing"
)

// FuzzPack reads the inside of archives from anybody.
func FuzzPack(f *testing.F) {
	f.Add([]byte{})
	f.Add(bytes.Repeat([]byte{0}, 1024))
	f.Add(append([]byte("../../x"), make([]byte, 600)...))
	f.Fuzz(func(t *testing.T, b []byte) {
		files, err := readPack(bytes.NewReader(b))
		n := 0
		for _, text := range files {
			n += len(text)
		}
		if err == nil && n > len(b) {
			t.Errorf("%d bytes came out of %d", n, len(b))
		}
	})
}
