package machine

import (
	"io"
	"strings"
	"testing"
)

type endless struct{ sent int }

func (e *endless) Read(b []byte) (int, error) {
	e.sent += len(b)
	clear(b)
	return len(b), nil
}

// An answer that never ends fills no memory; any number of answers come through.
func TestLines(t *testing.T) {
	e := &endless{}
	if _, err := io.Copy(io.Discard, &lines{r: e}); err == nil || !strings.Contains(err.Error(), "which no agent gives") || e.sent > longestLine+1<<20 {
		t.Errorf("after %d bytes: %v", e.sent, err)
	}
	line := strings.Repeat("x", 1<<20) + "\n"
	if n, err := io.Copy(io.Discard, &lines{r: strings.NewReader(strings.Repeat(line, 80))}); err != nil || n != int64(80*len(line)) {
		t.Errorf("%d bytes, %v", n, err)
	}
}
