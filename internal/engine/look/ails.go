package look

import (
	"time"

	"verbund/internal/core/plan"
)

// Ails lists everything that is not as it should be in a living cluster.
func (v *View) Ails() []plan.Trouble {
	why := plan.Unseen{Site: v.SiteError, API: v.APIError, Datastore: v.DatastoreError, Tokens: v.Refused}
	return plan.Ails(v.Cluster, v.Seen, why, time.Now())
}

// Ailing is the same in words.
func (v *View) Ailing() []string {
	var out []string
	for _, t := range v.Ails() {
		out = append(out, t.Text)
	}
	return out
}
