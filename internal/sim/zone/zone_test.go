package zone

import (
	"context"
	"io"
	"strings"
	"testing"
	"time"
)

type sink struct{ io.Writer }

func (sink) Close() error { return nil }

// FuzzMessages sends a zone whatever there is, but for machines to boot, which write where
// they are told to.
func FuzzMessages(f *testing.F) {
	for _, m := range []string{
		`{"jsonrpc":"2.0","id":1,"method":"off","params":{"name":"x","pulled":true}}`,
		`{"jsonrpc":"2.0","id":1,"method":"suffer","params":{"name":"x","faults":{"full":true,"clockOff":-1}}}`,
		`[{"jsonrpc":"2.0","method":"off"}]`, `{"id":{}}`, "\x00", `"`,
	} {
		f.Add(m)
	}
	f.Fuzz(func(t *testing.T, line string) {
		if strings.Contains(line, "boot") || strings.Contains(line, `\u`) {
			t.Skip()
		}
		done := make(chan struct{})
		go func() {
			defer close(done)
			Run(context.Background(), strings.NewReader(line+"\n"), sink{io.Discard}, nil)
		}()
		select {
		case <-done:
		case <-time.After(20 * time.Second):
			t.Fatal("it does not end")
		}
	})
}

// A zone has a processor for each fifty machines, and no more than there are.
func TestProcessors(t *testing.T) {
	for _, x := range []struct{ machines, most, want int }{{0, 8, 1}, {49, 8, 1}, {50, 8, 2}, {333, 8, 7}, {333, 2, 2}, {1000, 1, 1}} {
		if n := processors(x.machines, x.most); n != x.want {
			t.Errorf("%d machines, %d processors: %d, wanted %d", x.machines, x.most, n, x.want)
		}
	}
}
