package keep

import (
	"errors"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/versions"
	"verbund/internal/core/words"
	"verbund/internal/engine/act"
	"verbund/internal/engine/keep"
)

// GatheredSaid is what gathering backups from machines came to, as JSON.
type GatheredSaid struct {
	Cluster string       `json:"cluster"`
	Got     []BackupSaid `json:"got"`
	Left    int          `json:"left"` // that lie there, and are here already or would not stay
	Error   string       `json:"error,omitempty"`
}

func gatherCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "gather", Short: "Fetch the backups that control-plane machines took by themselves", Args: term.NoArgs,
		Long: `With backup.every in the declaration the control-plane machines take backups by turns,
also when nobody runs this tool, and keep on each of them as many as backup.keep says (8
without it). They cannot open them: what a backup holds beside the snapshot, every key
among it, was left with them sealed.

gather fetches those that are not here, and would stay here. Each is read to its end
before it counts. They stay on the machines, too.`,
		RunE: func(*cobra.Command, []string) error {
			s, v, err := a.View()
			if err != nil {
				return err
			}
			defer s.Close()
			if len(v.Cluster.With(versions.Keeper)) == 0 {
				return term.Usage("no machine of cluster %s takes backups by itself; declare how often: backup: {every: 6h}", s.Decl.Name)
			}
			if err := founded(s); err != nil {
				return err
			}
			release, err := desk.Held(s, "backup gather")
			if err != nil {
				return err
			}
			defer release()
			var g *keep.Gathered
			err = a.Noted(s, v, "backup gather", func(r *act.Run) (string, error) {
				var err error
				g, err = keep.Gather(a.Soft, s, v.Cluster, r.With)
				return "", err
			})
			if g == nil {
				return err
			}
			if s.Decl.Backup.Keep != nil && len(g.Got) > 0 {
				err = errors.Join(err, thin(a, s))
			}
			if a.Output == "json" {
				out := GatheredSaid{Cluster: s.Decl.Name, Got: []BackupSaid{}, Left: g.Left}
				for _, f := range g.Got {
					out.Got = append(out.Got, said(&f))
				}
				if err != nil {
					out.Error = err.Error()
				}
				return errors.Join(a.UI.JSON(out), err)
			}
			for _, f := range g.Got {
				a.UI.Say("backup %s, which %s took %s: %s at revision %d, %s, read to its end", f.Short(), f.Manifest.Machine, ago(f.Manifest.Taken), words.Count(f.Manifest.Number(), "object"), f.Manifest.Revision, size(f.Size))
			}
			if len(g.Got) == 0 && err == nil {
				a.UI.Say("nothing new lies on the machines of cluster %s: %s there, which are here or would not stay here", s.Decl.Name, words.Are(g.Left, "backup"))
			}
			return err
		},
	}
}
