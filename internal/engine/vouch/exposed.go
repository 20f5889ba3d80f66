package vouch

import (
	"slices"

	"verbund/internal/core/trust"
	"verbund/internal/engine/session"
	"verbund/internal/store"
)

// Exposure is something that whoever has opened a store may have kept, and what makes it
// worthless.
type Exposure struct {
	ID      string `json:"id"`
	What    string `json:"what"`
	Command string `json:"command"` // empty: nothing of ours does
}

// opens says of what can be replaced what its key is good for.
var opens = map[string]string{
	string(trust.Cluster):    "signs access to everything in the cluster",
	string(trust.Datastore):  "signs access to all that the cluster stores",
	string(trust.FrontProxy): "says for others who asks",
	trust.ServiceAccountKey:  "signs tokens of programs in pods",
	trust.SecretsKey:         "reads Secrets in copies of the datastore",
}

// Exposed lists what there is of that in a store: first what opens most.
func Exposed(t *store.Trust) []Exposure {
	var out []Exposure
	for _, id := range trust.Replaceable {
		if t.Keys[id] == nil {
			continue
		}
		e := Exposure{id, opens[id], "verbund trust replace " + id}
		if id != trust.SecretsKey {
			e.Command += " --now"
		}
		out = append(out, e)
	}
	for id := range t.Keys {
		if id != session.Login && !slices.Contains(trust.Replaceable, id) {
			out = append(out, Exposure{"certificates", "let in whoever has their keys", "verbund trust renew --all"})
			break
		}
	}
	if t.Keys[session.Login] != nil {
		out = append(out, Exposure{session.Login, "logs in to the machines; nothing here replaces it, so keep its holder from reaching them", ""})
	}
	return out
}
