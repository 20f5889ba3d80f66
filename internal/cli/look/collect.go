package look

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/words"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/whole"
)

// CollectCmd is verbund collect.
func CollectCmd(a *desk.App) *cobra.Command {
	var to string
	c := &cobra.Command{
		Use: "collect", Short: "Put all that a colleague would ask for into one archive, without secrets", Args: term.NoArgs,
		Long: `Writes one archive: the declaration with its findings, site and pins, status, plan,
survey, journal, the site's inventory, the logs of every machine and service, and
certificates without their keys. What looks like a secret is taken out, and the
archive is only written when none of the cluster's own secrets is in it.`,
		RunE: func(*cobra.Command, []string) error {
			path, err := a.FindDeclaration()
			if err != nil {
				return err
			}
			// A declaration with errors is a reason to ask somebody, too.
			r, err := a.Read(path)
			if err != nil {
				return err
			}
			if r.Findings.Errors() > 0 && !(declare.IsName(r.Decl.Name) && declare.IsName(r.Decl.Site)) {
				a.PrintFindings(r.Findings)
				return &term.Exit{Code: term.ExitUsage, Err: fmt.Errorf("%s does not say of which cluster at which site it is; nothing was collected", path)}
			}
			s, err := a.SessionOf(path, r)
			if err != nil {
				return err
			}
			defer s.Close()
			if to == "" {
				to = filepath.Join(a.Dir, fmt.Sprintf("%s-%s.tar.gz", s.Decl.Name, time.Now().UTC().Format("20060102-150405")))
			}
			return collect(a, s, r, to)
		},
	}
	c.Flags().StringVar(&to, "to", "", "the archive; NAME-TIME.tar.gz if not given")
	return c
}

// bundle is what goes into the archive, by name.
type bundle map[string][]byte

func (b bundle) json(name string, v any) error {
	text, err := json.MarshalIndent(v, "", "  ")
	b[name] = text
	return err
}

func collect(a *desk.App, s *session.Session, r *declare.Result, to string) error {
	secrets, err := look.Secrets(s)
	if err != nil {
		return err
	}
	b := bundle{}
	if err := gather(a, s, r, b); err != nil {
		return err
	}
	removed := 0
	for n, text := range b {
		clean, k := look.Redact(text, secrets)
		b[n], removed = clean, removed+k
	}
	for n, text := range b {
		if what := look.Leaks(text, secrets); what != "" {
			return fmt.Errorf("collecting: %s still holds %s; nothing was written, and this is a mistake in Verbund", n, what)
		}
	}
	archive, err := pack(b, s.Decl.Name)
	if err != nil {
		return err
	}
	if err := whole.Write(to, archive, 0o600); err != nil {
		return err
	}
	if a.Output == "json" {
		return a.UI.JSON(CollectSaid{to, slices.Sorted(maps.Keys(b)), removed, len(archive)})
	}
	if removed > 0 {
		a.UI.Say("took %s out", words.Count(removed, "secret"))
	}
	a.UI.Say("wrote %s: %s, %d KiB", to, words.Count(len(b), "file"), len(archive)>>10)
	return nil
}

// gather looks everywhere; what cannot be looked at is said in the archive.
func gather(a *desk.App, s *session.Session, r *declare.Result, b bundle) error {
	path, err := a.FindDeclaration()
	if err != nil {
		return err
	}
	for _, f := range []string{path, r.SiteFile, r.PinsFile} {
		if text, err := whole.Read(f); err == nil {
			b["declared/"+filepath.Base(f)] = text
		}
	}
	if text, err := r.Merged(); err == nil {
		b["declared/merged.yaml"] = []byte(text)
	}
	if err := b.json("findings.json", r.Findings); err != nil {
		return err
	}
	b["version.txt"] = []byte(term.BuildVersion() + "\n")
	if js, err := s.Store.JournalFiles(); err == nil {
		maps.Copy(b, js)
	}
	t, err := s.Trust()
	if err != nil {
		return err
	}
	for id, c := range t.Certs {
		b["certificates/"+id+".crt"] = c
	}
	if n := r.Findings.Errors(); n > 0 {
		said := fmt.Sprintf("the declaration has %s: neither machines nor API were looked at", words.Count(n, "error"))
		a.UI.Say("%s", said)
		b["trouble.txt"] = []byte(said + "; findings.json lists them\n")
		return nil
	}
	v, err := look.Observe(a.Soft, s)
	if err != nil {
		b["trouble.txt"] = []byte(err.Error() + "\n")
		return nil
	}
	if v.Inventory == nil {
		b["trouble.txt"] = []byte("the site's process does not run: neither machines nor API were looked at\n")
		return nil
	}
	p, perr := look.PlanOf(s, v)
	if perr != nil {
		b["plan.txt"] = []byte("refused: " + perr.Error() + "\n")
	} else {
		slots, total := p.Schedule(s.Parallel, look.Usual(s))
		if err := b.json("plan.json", a.PlanReport(s, p, v, slots, total, nil)); err != nil {
			return err
		}
	}
	if err := b.json("status.json", map[string]any{"ailing": term.List(v.Ailing()), "members": v.Members, "machines": v.Seen.Machines}); err != nil {
		return err
	}
	for name, x := range map[string]any{"inventory.json": v.Inventory, "nodes.json": v.Nodes, "survey.json": look.Survey(a.Soft, s, v, look.SurveyOptions{})} {
		if err := b.json(name, x); err != nil {
			return err
		}
	}
	for name, lines := range look.AllLogs(a.Soft, s, v, logLines) {
		b["logs/"+name+".log"] = []byte(strings.Join(lines, "\n") + "\n")
	}
	return nil
}

// logLines is how much of each log is collected.
const logLines = 500

// pack makes the archive, the same bytes for the same content.
func pack(b bundle, folder string) ([]byte, error) {
	var buf bytes.Buffer
	z := gzip.NewWriter(&buf)
	w := tar.NewWriter(z)
	names := []string{}
	for n := range b {
		names = append(names, n)
	}
	slices.Sort(names)
	for _, n := range names {
		if err := w.WriteHeader(&tar.Header{Name: folder + "/" + n, Mode: 0o600, Size: int64(len(b[n]))}); err != nil {
			return nil, err
		}
		if _, err := w.Write(b[n]); err != nil {
			return nil, err
		}
	}
	if err := errors.Join(w.Close(), z.Close()); err != nil {
		return nil, err
	}
	return buf.Bytes(), nil
}

// CollectSaid is what was collected, as JSON.
type CollectSaid struct {
	Archive string   `json:"archive"`
	Files   []string `json:"files"`
	Removed int      `json:"removed"` // secrets that were taken out
	Bytes   int      `json:"bytes"`
}
