package write

import (
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/words"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
)

// RenderSaid is what was rendered, as JSON.
type RenderSaid struct {
	Cluster string `json:"cluster"`
	Folder  string `json:"folder"`
	Files   int    `json:"files"`
}

const renderedMark = ".verbund-rendered"

// RenderCmd is verbund render.
func RenderCmd(a *desk.App) *cobra.Command {
	var to string
	var keys, told bool
	c := &cobra.Command{
		Use: "render", Short: "Write every machine's files into a folder, for reading and version control",
		Long: `Writes the files of every machine into a folder: systemd units, component
configuration, kubeconfigs, certificates, names, and the balancer's
configuration. Private keys stay in the tool's store unless --with-keys; then
an ignore file keeps them out of version control.`,
		Args: term.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			s, err := a.Open(true)
			if err != nil {
				return err
			}
			if err = s.Store.Make(); err != nil {
				return err
			}
			if to == "" {
				to = filepath.Join(a.Dir, s.Decl.Name+".rendered")
			}
			if tree := desk.WorkTree(to); keys && tree != "" && !told {
				return term.Usage("%s lies in a git work tree (%s), and private keys do not belong there; choose another folder with --to, or say --in-work-tree if that is meant", to, tree)
			}
			n, err := render(s, to, keys)
			if err != nil {
				return err
			}
			if a.Output == "json" {
				return a.UI.JSON(RenderSaid{s.Decl.Name, to, n})
			}
			a.UI.Say("wrote %s of %s to %s", words.Count(n, "file"), s.Decl.Name, to)
			return nil
		},
	}
	c.Flags().StringVar(&to, "to", "", "the folder; NAME.rendered if not given")
	c.Flags().BoolVar(&keys, "with-keys", false, "also private keys, and an ignore file")
	c.Flags().BoolVar(&told, "in-work-tree", false, "with --with-keys: also inside a git work tree")
	return c
}

// render writes into a new folder beside to and puts it in to's place.
func render(s *session.Session, to string, keys bool) (int, error) {
	if es, err := os.ReadDir(to); err == nil && len(es) > 0 {
		if _, err := os.Stat(filepath.Join(to, renderedMark)); err != nil {
			return 0, term.Usage("%s holds other files, which would be lost; choose another folder with --to", to)
		}
	}
	c, err := s.Topology()
	if err != nil {
		return 0, err
	}
	// What is yet to be made is made once, whoever comes first.
	due, err := vouch.Lacking(s, c, time.Now())
	if err != nil {
		return 0, err
	}
	if due {
		release, err := desk.Held(s, "render")
		if err != nil {
			return 0, err
		}
		defer release()
	}
	if err := vouch.Ensure(s, c, time.Now()); err != nil {
		return 0, err
	}
	t, err := s.Trust()
	if err != nil {
		return 0, err
	}
	if err := os.MkdirAll(filepath.Dir(filepath.Clean(to)), 0o755); err != nil {
		return 0, err
	}
	tmp, err := os.MkdirTemp(filepath.Dir(filepath.Clean(to)), ".rendering-*")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(tmp)
	mode := os.FileMode(0o755)
	if keys {
		mode = 0o700
	}
	if err := os.Chmod(tmp, mode); err != nil {
		return 0, err
	}
	var n atomic.Int64
	err = session.RenderAll(c, t, func(m topology.Machine, files []session.Rendered) error {
		for _, f := range files {
			if (f.Kind == nodeconf.Key || f.Kind == nodeconf.SecretsConfig) && !keys {
				continue
			}
			p := filepath.Join(tmp, m.Name, f.Path)
			if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
				return err
			}
			if err := os.WriteFile(p, f.Bytes, f.Mode); err != nil {
				return err
			}
			n.Add(1)
		}
		return nil
	})
	if err != nil {
		return 0, err
	}
	if err := os.WriteFile(filepath.Join(tmp, renderedMark), []byte("written by verbund render; the whole folder is replaced each time\n"), 0o644); err != nil {
		return 0, err
	}
	if keys {
		if err := os.WriteFile(filepath.Join(tmp, ".gitignore"), []byte("# private keys do not belong in version control\n*.key\nsecrets-encryption.yaml\n"), 0o644); err != nil {
			return 0, err
		}
	}
	if err := os.RemoveAll(to); err != nil {
		return 0, fmt.Errorf("the folder of the rendering before: %w", err)
	}
	return int(n.Load()), os.Rename(tmp, to)
}
