package host

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
)

// A log does not fill a disk: it is set aside once it is large, once, and nothing of what was
// written last is lost.
func TestUnitLog(t *testing.T) {
	path := filepath.Join(t.TempDir(), "kubelet.service.log")
	line := append(bytes.Repeat([]byte("x"), 1<<20-1), '\n')
	for range 2 { // as after a restart
		l, err := openLog(path)
		if err != nil {
			t.Fatal(err)
		}
		for range 6 {
			if n, err := l.Write(line); n != len(line) || err != nil {
				t.Fatal(n, err)
			}
		}
		if err := l.Close(); err != nil {
			t.Fatal(err)
		}
	}
	var sizes []int64
	for _, p := range []string{path, path + ".1"} {
		i, err := os.Stat(p)
		if err != nil {
			t.Fatal(err)
		}
		sizes = append(sizes, i.Size())
	}
	if sizes[0] > mostLog+1<<20 || sizes[0] == 0 || sizes[1] < mostLog {
		t.Errorf("the logs have %d bytes", sizes)
	}
	if es, err := os.ReadDir(filepath.Dir(path)); err != nil || len(es) != 2 {
		t.Errorf("%d files, %v", len(es), err)
	}
}
