package write

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
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

// renderedMark is the file of a rendering that lists what was written there.
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
an ignore file keeps them out of version control.

Written anew, the folder loses what was rendered before and is not any more; files
that others put there stay, and are never written over.`,
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

// render writes every machine's files into a folder.
func render(s *session.Session, to string, keys bool) (int, error) {
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
	out := rendering{}
	var mu sync.Mutex
	err = session.RenderAll(c, t, func(m topology.Machine, files []session.Rendered) error {
		mu.Lock()
		defer mu.Unlock()
		for _, f := range files {
			if keys || f.Kind != nodeconf.Key && f.Kind != nodeconf.SecretsConfig {
				out[path.Join(m.Name, f.Path)] = rendered{f.Bytes, f.Mode}
			}
		}
		return nil
	})
	if err != nil {
		return 0, err
	}
	n := len(out)
	mode := os.FileMode(0o755)
	if keys {
		mode = 0o700
		out[".gitignore"] = rendered{[]byte("# private keys do not belong in version control\n*.key\nsecrets-encryption.yaml\n"), 0o644}
	}
	if err := os.MkdirAll(to, mode); err != nil {
		return 0, err
	}
	if keys {
		if err := os.Chmod(to, mode); err != nil {
			return 0, err
		}
	}
	return n, out.write(to)
}

// rendered is one file, and rendering all of a folder's, by path within it.
type (
	rendered struct {
		bytes []byte
		mode  fs.FileMode
	}
	rendering map[string]rendered
)

// write puts the files into a folder in the place of those of the rendering before. What somebody
// else put there is left alone; where a file of theirs is in the way nothing is written at all.
// Nothing is followed out of the folder.
func (r rendering) write(to string) error {
	dir, err := os.OpenRoot(to)
	if err != nil {
		return err
	}
	defer dir.Close()
	before, err := written(dir)
	if err != nil {
		return err
	}
	var foreign []string
	for p := range r {
		if _, err := dir.Lstat(p); err == nil && !before[p] {
			foreign = append(foreign, p)
		}
	}
	if slices.Sort(foreign); len(foreign) > 0 {
		return term.Usage("%s holds %s that verbund render did not write and that would be lost, such as %s; choose another folder with --to", to, words.Count(len(foreign), "file"), foreign[0])
	}
	// Should this be cut off, the next one knows of everything that may lie there.
	all := maps.Clone(before)
	for p := range r {
		all[p] = true
	}
	if err := mark(dir, slices.Sorted(maps.Keys(all))); err != nil {
		return err
	}
	for _, p := range slices.Sorted(maps.Keys(r)) {
		if err := dir.MkdirAll(path.Dir(p), 0o755); err != nil {
			return err
		}
		if err := putWhole(dir, p, r[p]); err != nil {
			return err
		}
	}
	for p := range before {
		if _, still := r[p]; still {
			continue
		}
		if err := dir.Remove(p); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("taking away %s of the rendering before: %w", p, err)
		}
		for up := path.Dir(p); up != "." && dir.Remove(up) == nil; up = path.Dir(up) {
		}
	}
	return mark(dir, slices.Sorted(maps.Keys(r)))
}

// written lists what the rendering before has written.
func written(dir *os.Root) (map[string]bool, error) {
	out := map[string]bool{}
	b, err := dir.ReadFile(renderedMark)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for l := range strings.Lines(string(b)) {
		if l = strings.TrimSpace(l); l != "" && l[0] != '#' {
			out[l] = true
		}
	}
	return out, nil
}

func mark(dir *os.Root, files []string) error {
	text := "# written by verbund render, which replaces these files, and no others, the next time\n" + strings.Join(files, "\n") + "\n"
	return putWhole(dir, renderedMark, rendered{[]byte(text), 0o644})
}

// putWhole puts a file in its place when all of it is written.
func putWhole(dir *os.Root, p string, f rendered) error {
	tmp := path.Join(path.Dir(p), ".new-"+path.Base(p))
	if err := dir.WriteFile(tmp, f.bytes, 0o600); err != nil {
		return err
	}
	return errors.Join(dir.Chmod(tmp, f.mode), dir.Rename(tmp, p))
}
