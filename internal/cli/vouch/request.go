package vouch

import (
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/trust"
	"verbund/internal/core/words"
	"verbund/internal/engine/vouch"
	"verbund/internal/whole"
)

func trustRequestCmd(a *desk.App) *cobra.Command {
	var into string
	c := &cobra.Command{
		Use: "request", Short: "Write the certificate requests that somebody outside has to sign", Args: term.NoArgs,
		Long: `For a cluster whose authorities' keys are outside (trust: {keys: outside}): makes the
keys of everything that is missing or due, keeps them, and writes one PKCS #10 request
a file, in a folder by authority. Names and usages are in the request, to be copied.
trust accept takes the answers.`,
		RunE: func(*cobra.Command, []string) error {
			s, err := a.Open(true)
			if err != nil {
				return err
			}
			defer s.Close()
			if s.Decl.Trust.Keys != "outside" {
				return term.Usage("the keys of the authorities of cluster %s are held here: converge signs what is due", s.Decl.Name)
			}
			c, err := s.Topology()
			if err != nil {
				return err
			}
			release, err := desk.Held(s, "trust request")
			if err != nil {
				return err
			}
			defer release()
			qs, err := vouch.SigningRequests(s, c, time.Now())
			if err != nil {
				return err
			}
			if len(qs) == 0 {
				a.UI.Say("nothing of cluster %s has to be signed", s.Decl.Name)
				return nil
			}
			if into == "" {
				into = filepath.Join(a.Dir, s.Decl.Name+".requests")
			}
			all := map[string]trust.Request{}
			for _, q := range vouch.Certificates(c) {
				all[q.ID] = q
			}
			for _, id := range slices.Sorted(maps.Keys(qs)) {
				dir := filepath.Join(into, string(all[id].Authority))
				if err := os.MkdirAll(dir, 0o755); err != nil {
					return err
				}
				if err := whole.Write(filepath.Join(dir, strings.ReplaceAll(id, "/", ".")+".csr"), qs[id], 0o644); err != nil {
					return err
				}
			}
			a.UI.Say("wrote %s to %s, in a folder by authority; keys stay in the store", words.Count(len(qs), "request"), into)
			a.UI.Say("each has to be signed with its names and usages, for at most %s; bring the answers with: verbund trust accept FILE…", s.Decl.Trust.Leaf)
			return nil
		},
	}
	c.Flags().StringVar(&into, "into", "", "the folder; NAME.requests if not given")
	return c
}
