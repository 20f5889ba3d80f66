package plan

import (
	"fmt"
	"slices"

	"verbund/internal/core/topology"
)

// AllAtOnce is how the files of all machines are brought up to date when nobody
// can be waited for: an authority is distrusted at once.
func AllAtOnce(c *topology.Cluster) []Step {
	var out []Step
	var all []string
	for _, m := range c.Machines {
		s := Step{ID: string(Write) + "/" + m.Name, Kind: Write, Machine: m.Name, Text: "write everything anew, and restart what trusted the old one", Why: "the old one is not to be trusted for a moment longer"}
		out, all = append(out, s), append(all, s.ID)
	}
	for _, m := range c.Machines {
		if m.IsNode() {
			s := Step{ID: string(Ready) + "/" + m.Name, Kind: Ready, Machine: m.Name, Text: "wait until all of it is well", Why: "it was restarted", Needs: all}
			out = append(out, s)
		}
	}
	return out
}

// Refreshing are the steps that give pods new tokens: one batch of a pool after
// the other.
func Refreshing(c *topology.Cluster, old map[string]int) []Step {
	var out []Step
	batch, before := map[string][]string{}, map[string][]string{}
	for _, m := range c.Machines {
		if old[m.Name] == 0 {
			continue
		}
		if len(batch[m.Pool]) >= max(c.Policies[m.Pool].Batch, 1) {
			before[m.Pool], batch[m.Pool] = batch[m.Pool], nil
		}
		s := Step{ID: string(Refresh) + "/" + m.Name, Kind: Refresh, Machine: m.Name, Text: fmt.Sprintf("give its pods new tokens, %d of them", old[m.Name]), Why: "the key that signed the old ones is to go", Needs: slices.Clone(before[m.Pool])}
		out = append(out, s)
		batch[m.Pool] = append(batch[m.Pool], s.ID)
	}
	return out
}
