package protocol

import (
	"strings"
	"testing"

	"github.com/creachadair/jrpc2/channel"
)

// What is no question ends the channel before the library answers it.
func TestQuestions(t *testing.T) {
	for _, x := range []struct {
		line string
		ok   bool
	}{
		{`{"jsonrpc":"2.0","id":1,"method":"facts"}`, true}, {`{"id":"a"}`, true},
		{`{"method":"facts"}`, false}, {`{"id":null}`, false}, {`{"ID":1}`, false}, {`[{"id":1}]`, false}, {`x`, false}, {`null`, false},
	} {
		b, err := Questions(channel.Line(strings.NewReader(x.line+"\n"), nil)).Recv()
		if got := err == nil; got != x.ok || got && string(b) != x.line {
			t.Errorf("%s: %q, %v", x.line, b, err)
		}
	}
}
