package protocol

import (
	"encoding/json"
	"errors"

	"github.com/creachadair/jrpc2/channel"
)

// Questions is a channel of JSON-RPC on which every message is one question with an
// identifier, as in both protocols of a site. Anything else ends it: the library would
// answer it on a channel that may be closed by then, which ends the process.
func Questions(c channel.Channel) channel.Channel { return questions{c} }

type questions struct{ channel.Channel }

// ErrNoQuestion is a message that is no question.
var ErrNoQuestion = errors.New("a message without an identifier")

func (q questions) Recv() ([]byte, error) {
	b, err := q.Channel.Recv()
	if len(b) == 0 {
		return b, err
	}
	var m map[string]json.RawMessage
	if json.Unmarshal(b, &m) != nil || len(m["id"]) == 0 || string(m["id"]) == "null" {
		return nil, ErrNoQuestion
	}
	return b, err
}
