package keep

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"k8s.io/apimachinery/pkg/util/duration"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/memory"
	"verbund/internal/core/plan"
	"verbund/internal/core/words"
	"verbund/internal/engine/act"
	"verbund/internal/engine/keep"
	"verbund/internal/engine/session"
)

// BackupCmd is verbund backup.
func BackupCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{
		Use: "backup", Short: "Take backups, verify them, send them off, restore the cluster from them",
		Long: `A backup is one file: a snapshot of the datastore, and all that is needed to raise the
same cluster from it: declaration, pins, authorities and keys. It is encrypted with age,
and opens with the cluster's own key, which lies beside it, and for whoever
backup.opens in the declaration names.

One is taken by itself before an upgrade and before a restoration, and on the
control-plane machines as often as backup.every of the declaration says: gather fetches
those. A name in what follows is that of the file, the one given with --name, the
beginning of either, or the word newest.`,
	}
	c.AddCommand(takeCmd(a), gatherCmd(a), listCmd(a), showCmd(a), verifyCmd(a), copyCmd(a), restoreCmd(a), dropCmd(a))
	return c
}

// BackupSaid is a backup as JSON.
type BackupSaid struct {
	Name       string         `json:"name"` // of its file
	Called     string         `json:"called,omitempty"`
	Taken      *time.Time     `json:"taken,omitempty"`
	Kubernetes string         `json:"kubernetes,omitempty"`
	Revision   int64          `json:"revision,omitempty"` // of the datastore
	Objects    map[string]int `json:"objects"`            // by kind
	Why        string         `json:"why,omitempty"`
	Bytes      int64          `json:"bytes"` // of the file
	Files      []string       `json:"files"` // beside the snapshot
	Verified   *time.Time     `json:"verified,omitempty"`
	Raised     *time.Time     `json:"raised,omitempty"` // when a member was last raised from it
	Copies     []memory.Copy  `json:"copies"`
	Trouble    string         `json:"trouble,omitempty"` // why it cannot be used here
}

// BackupsSaid are all backups, as JSON.
type BackupsSaid struct {
	Cluster string       `json:"cluster"`
	Folder  string       `json:"folder"`
	Backups []BackupSaid `json:"backups"` // the newest first
}

func said(f *keep.Found) BackupSaid {
	m := f.Manifest
	out := BackupSaid{Name: f.Name, Called: m.Name, Kubernetes: m.Kubernetes, Revision: m.Revision, Objects: m.Objects, Why: m.Why, Bytes: f.Size, Files: term.List(m.Files), Copies: term.List(f.Note.Copies)}
	if out.Objects == nil {
		out.Objects = map[string]int{}
	}
	at := func(t time.Time) *time.Time {
		if t.IsZero() {
			return nil
		}
		return &t
	}
	out.Taken, out.Verified, out.Raised = at(m.Taken), at(f.Note.Verified), at(f.Note.Raised)
	if f.Trouble != nil {
		out.Trouble = f.Trouble.Error()
	}
	return out
}

// ago is how long ago something was.
func ago(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return duration.HumanDuration(time.Since(t)) + " ago"
}

// size is how long a file is, to whole units.
func size(n int64) string {
	if n < 10<<20 {
		return fmt.Sprintf("%d KiB", (n+1<<10-1)>>10)
	}
	return fmt.Sprintf("%d MiB", n>>20)
}

func takeCmd(a *desk.App) *cobra.Command {
	var name string
	var due bool
	c := &cobra.Command{
		Use: "take", Short: "Take a backup now", Args: term.NoArgs,
		Long: `The cluster goes on as it is. The backup has its name only when all of it was read
back: every part by its digest, and the snapshot by the sum that etcd gave it.

With --due one is taken only if the newest is older than backup.every of the declaration
allows, and those that were taken so are thinned as backup.keep says: for a timer that
calls it.`,
		Example: "  verbund backup take --name before-the-fair\n  verbund backup take --due",
		RunE: func(*cobra.Command, []string) error {
			if name != "" {
				if err := keep.CheckName(name); err != nil {
					return term.Usage("--name: %v", err)
				}
			}
			if due && name != "" {
				return term.Usage("a backup that is due has no name of its own")
			}
			if due {
				if is, err := isDue(a); err != nil || !is {
					return err
				}
			}
			s, v, err := a.View()
			if err != nil {
				return err
			}
			defer s.Close()
			if err := founded(s); err != nil {
				return err
			}
			release, err := desk.Held(s, "backup take")
			if err != nil {
				return err
			}
			defer release()
			if name != "" {
				if _, err := keep.Find(s, name); err == nil {
					return term.Usage("there is a backup %s already; choose another name", name)
				}
			}
			why := "asked for"
			if due {
				why = keep.AsDeclared
			}
			var f *keep.Found
			if err := a.Noted(s, v, "backup take", func(*act.Run) (string, error) {
				f, err = keep.Take(a.Hard, s, v.Cluster, keep.Reason{Name: name, Why: why, Version: cmp.Or(plan.Version(v.Cluster, v.Seen), s.Decl.Kubernetes)})
				if err != nil {
					return "", fmt.Errorf("no backup was taken: %w", err)
				}
				return "backup " + f.Name, nil
			}); err != nil {
				return err
			}
			if due && s.Decl.Backup.Keep != nil {
				if err := thin(a, s); err != nil {
					return err
				}
			}
			unsent := send(a, s, f)
			if a.Output == "json" {
				return errors.Join(a.UI.JSON(said(f)), unsent)
			}
			a.UI.Say("backup %s of cluster %s: %s at revision %d, %s, read back", f.Short(), s.Decl.Name, words.Count(f.Manifest.Number(), "object"), f.Manifest.Revision, size(f.Size))
			if len(s.Decl.Backup.Opens) == 0 {
				a.UI.Say("it opens with the %s", openedBy(a, s))
			}
			return unsent
		},
	}
	c.Flags().StringVar(&name, "name", "", "a name for it, of small letters, digits, dots and hyphens")
	c.Flags().BoolVar(&due, "due", false, "only if one is due, as declared; thin those that were taken so")
	return c
}

// send sends a backup wherever it is declared that each goes.
func send(a *desk.App, s *session.Session, f *keep.Found) error {
	lies, err := keep.Send(a.Hard, s, f)
	for _, to := range lies {
		a.UI.Say("it lies at %s, too, and was read there", to)
	}
	return err
}

// isDue says whether a backup is due; no machine is asked for that.
func isDue(a *desk.App) (bool, error) {
	s, err := a.Open(false)
	if err != nil {
		return false, err
	}
	defer s.Close()
	every := time.Duration(s.Decl.Backup.Every)
	if every == 0 {
		return false, term.Usage("no backup is ever due in cluster %s; declare how often: backup: {every: 6h}", s.Decl.Name)
	}
	all, err := keep.All(s)
	if err != nil {
		return false, err
	}
	since, due := keep.Due(all, every, time.Now())
	if !due {
		a.UI.Say("no backup of cluster %s is due before %s", s.Decl.Name, since.Local().Format("2006-01-02 15:04"))
	}
	return due, nil
}

// thin takes those away that were taken as declared, and need not stay.
func thin(a *desk.App, s *session.Session) error {
	all, err := keep.All(s)
	if err != nil {
		return err
	}
	gone := keep.Thin(all, *s.Decl.Backup.Keep)
	if len(gone) == 0 {
		return nil
	}
	a.UI.Say("%s older and taken away, as declared: %s", words.Are(len(gone), "backup"), strings.Join(gone, ", "))
	return keep.Drop(s, gone, false)
}

// founded refuses where there is no datastore to back up or to restore.
func founded(s *session.Session) error {
	st, err := s.Store.Read()
	if err == nil && st.Facts == nil {
		err = fmt.Errorf("cluster %s was not raised yet: there is nothing to back up", s.Decl.Name)
	}
	return err
}

func listCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the backups, with where copies lie and what was checked", Args: term.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			s, err := a.Open(false)
			if err != nil {
				return err
			}
			defer s.Close()
			all, err := keep.All(s)
			if err != nil {
				return err
			}
			folder, _ := s.Store.BackupsAt()
			if a.Output == "json" {
				out := BackupsSaid{s.Decl.Name, folder, []BackupSaid{}}
				for _, f := range all {
					out.Backups = append(out.Backups, said(&f))
				}
				return a.UI.JSON(out)
			}
			if len(all) == 0 {
				fmt.Fprintf(a.Out, "Cluster %s has no backup in %s.\n", s.Decl.Name, folder)
				return nil
			}
			var rows [][]term.Cell
			for _, f := range all {
				rows = append(rows, row(&f))
			}
			a.UI.Table([]string{"backup", "taken", "kubernetes", "objects", "size", "verified", "copies", "why"}, rows)
			return nil
		},
	}
}

// mostShort is how much of a trouble a row of a table has, in characters.
const mostShort = 90

// inShort is a trouble in a row of a table; backup show has all of it.
func inShort(err error) string {
	text := "cannot be used, since " + strings.ReplaceAll(err.Error(), "\n", " ")
	if errors.Is(err, keep.ErrClosed) {
		text = "cannot be opened, since none of the keys that are here opens it"
	}
	if rs := []rune(text); len(rs) > mostShort {
		text = string(rs[:mostShort-1]) + "…"
	}
	return text
}

func row(f *keep.Found) []term.Cell {
	if f.Trouble != nil {
		return []term.Cell{term.Plain(f.Short()), {}, {}, {}, term.Plain(size(f.Size)), {Text: "no", State: "bad"}, {}, {Text: inShort(f.Trouble), State: "bad"}}
	}
	m := f.Manifest
	verified := term.Cell{Text: ago(f.Note.Verified)}
	switch {
	case f.Note.Verified.IsZero():
		verified.State = "attention"
	case !f.Note.Raised.IsZero():
		verified = term.Cell{Text: ago(f.Note.Verified) + ", raised", State: "good"}
	}
	copies := "none"
	if n := len(f.Note.Copies); n > 0 {
		copies = fmt.Sprint(n)
		unchecked := slices.ContainsFunc(f.Note.Copies, func(c memory.Copy) bool { return c.Checked.IsZero() })
		if copies += ", checked"; unchecked {
			copies = fmt.Sprintf("%d, not all checked", n)
		}
	}
	return []term.Cell{term.Plain(f.Short()), term.Plain(ago(m.Taken)), term.Plain(m.Kubernetes), term.Plain(fmt.Sprint(m.Number())), term.Plain(size(f.Size)), verified, term.Plain(copies), term.Plain(m.Why)}
}

func showCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show what stands in a backup's manifest", Args: term.ExactArgs(1, "a backup, or newest"),
		Long: "What stands there was written when it was taken; verbund backup verify holds the\nrest of the file against it.",
		RunE: func(_ *cobra.Command, args []string) error {
			s, f, err := find(a, args[0])
			if err != nil {
				return err
			}
			defer s.Close()
			if a.Output == "json" {
				return a.UI.JSON(said(f))
			}
			if f.Trouble != nil {
				return fmt.Errorf("backup %s cannot be used here: %w", f.Name, f.Trouble)
			}
			m := f.Manifest
			folder, opener := s.Store.BackupsAt()
			rows := []term.Field{{Name: "file", Cell: term.Plain(filepath.Join(folder, f.Name) + ", " + size(f.Size))}, {Name: "cluster", Cell: term.Plain(m.Cluster)},
				{Name: "taken", Cell: term.Plain(m.Taken.Local().Format("2006-01-02 15:04:05") + ", " + ago(m.Taken) + "; " + cmp.Or(m.Why, "why is not known"))}, {Name: "kubernetes", Cell: term.Plain(m.Kubernetes)},
				{Name: "datastore", Cell: term.Plain(fmt.Sprintf("revision %d, %s on %s", m.Revision, size(m.Bytes), strings.Join(m.Members, ", ")))}}
			var kinds []string
			for _, k := range slices.Sorted(maps.Keys(m.Objects)) {
				kinds = append(kinds, fmt.Sprintf("%d %s", m.Objects[k], k))
			}
			rows = append(rows, term.Field{Name: "objects", Cell: term.Plain(words.Count(m.Number(), "object") + ": " + strings.Join(kinds, ", "))},
				term.Field{Name: "files", Cell: term.Plain(cmp.Or(strings.Join(m.Files, ", "), "none: it is from before they were part of it, and a lost folder cannot be had back from it"))},
				term.Field{Name: "opens with", Cell: term.Plain(opener + " beside it" + openers(s))},
				term.Field{Name: "verified", Cell: term.Plain(ago(f.Note.Verified))}, term.Field{Name: "raised", Cell: term.Plain(ago(f.Note.Raised))})
			for _, c := range f.Note.Copies {
				where := c.To
				if c.Digest != "" {
					where += "@" + c.Digest
				}
				rows = append(rows, term.Field{Name: "copy", Cell: term.Plain(fmt.Sprintf("%s, sent %s, checked %s", where, ago(c.At), ago(c.Checked)))})
			}
			a.UI.Fields(rows)
			return nil
		},
	}
}

func openers(s *session.Session) string {
	if n := len(s.Decl.Backup.Opens); n > 0 {
		return fmt.Sprintf("; new ones also for %s of backup.opens", words.Count(n, "recipient"))
	}
	return ""
}

// find opens the cluster and finds a backup by its name; what there is not is a mistake.
func find(a *desk.App, name string) (*session.Session, *keep.Found, error) {
	s, err := a.Open(false)
	if err != nil {
		return nil, nil, err
	}
	f, err := named(s, name)
	if err != nil {
		s.Close()
		return nil, nil, err
	}
	return s, f, nil
}

func named(s *session.Session, name string) (*keep.Found, error) {
	f, err := keep.Find(s, name)
	var none *keep.NotFound
	if errors.As(err, &none) {
		return nil, term.Usage("%v", err)
	}
	return f, err
}

// openedBy is what opens the store of a cluster, and its backups with it.
func openedBy(a *desk.App, s *session.Session) string {
	what := "store"
	var people []string
	if p, err := s.Store.Protection(); err == nil && p != nil {
		what = p.Kind + " of the store"
		if f := a.Keys().KeyFile(*p); f != "" {
			what = "key file " + f
		}
		for _, w := range p.People {
			people = append(people, w.Name)
		}
	}
	if len(people) > 0 {
		return what + ", and with the keys of " + strings.Join(people, ", ")
	}
	return what + " alone: keep a copy of that elsewhere; backup.opens in the declaration lets somebody else open it, too"
}

// VerifiedSaid is what verifying a backup found, as JSON.
type VerifiedSaid struct {
	Name     string `json:"name"`
	Whole    bool   `json:"whole"`    // every part is as it was written
	Revision int64  `json:"revision"` // of its snapshot
	Objects  int    `json:"objects"`  // in its snapshot
	// Raised is how many objects a member held that was raised from it; nothing, if none was.
	Raised *int        `json:"raised,omitempty"`
	Copies []CopyCheck `json:"copies"` // that were checked
	Error  string      `json:"error,omitempty"`
}

// CopyCheck is what became of looking at a copy.
type CopyCheck struct {
	To    string `json:"to"`
	Error string `json:"error,omitempty"`
}

func verifyCmd(a *desk.App) *cobra.Command {
	var raise, copies bool
	c := &cobra.Command{
		Use: "verify [NAME]", Short: "Read a backup to its end, and hold it against its manifest",
		Long: `Opens it, checks every part by its digest and the snapshot by the sum that etcd gave
it, and reads what the snapshot holds. Without a name it is the newest one.

With --raise a member of the datastore is raised from it for a moment, in a folder of
its own and without a network, and asked what it holds. With --copies every copy is read
where it lies. Exit code 3 when something is not as it should be.`,
		Example: "  verbund backup verify --raise\n  verbund backup verify before-the-fair --copies",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return term.Usage("verify takes one backup")
			}
			s, f, err := find(a, cmp.Or(strings.Join(args, ""), keep.Newest))
			if err != nil {
				return err
			}
			defer s.Close()
			out := VerifiedSaid{Name: f.Name, Copies: []CopyCheck{}}
			x, err := keep.Verify(a.Hard, s, f, raise)
			if err == nil {
				out.Whole, out.Revision, out.Objects = true, x.Contents.Revision, count(x.Contents.ByKind())
				if x.Raised != nil {
					n := count(x.Raised.ByKind())
					out.Raised = &n
				}
			} else {
				out.Error = err.Error()
			}
			if copies {
				if cerr := checkCopies(a, s, f, &out); cerr != nil {
					return cerr
				}
			}
			return tellVerified(a, f, &out)
		},
	}
	c.Flags().BoolVar(&raise, "raise", false, "also raise a member of the datastore from it, and count")
	c.Flags().BoolVar(&copies, "copies", false, "also read every copy where it lies")
	return c
}

func count(kinds map[string]int) int {
	n := 0
	for _, k := range kinds {
		n += k
	}
	return n
}

func checkCopies(a *desk.App, s *session.Session, f *keep.Found, out *VerifiedSaid) error {
	n := f.Note
	n.Copies = slices.Clone(n.Copies)
	for i := range n.Copies {
		c := CopyCheck{To: n.Copies[i].To}
		if err := keep.Check(a.Hard, s, f, &n.Copies[i]); err != nil {
			c.Error = err.Error()
			n.Copies[i].Checked = time.Time{}
		}
		out.Copies = append(out.Copies, c)
	}
	return s.Remember(func(st *memory.State) { st.Backups[f.Name] = n })
}

func tellVerified(a *desk.App, f *keep.Found, out *VerifiedSaid) error {
	wrong := out.Error != ""
	for _, c := range out.Copies {
		wrong = wrong || c.Error != ""
	}
	var end error
	if wrong {
		end = &term.Exit{Code: term.ExitNotWell}
	}
	if a.Output == "json" {
		return errors.Join(a.UI.JSON(out), end)
	}
	rows := []term.Field{{Name: "backup", Cell: term.Plain(f.Short())}}
	if out.Whole {
		rows = append(rows, term.Field{Name: "file", Cell: term.Cell{Text: "whole: every part is as it was written", State: "good"}},
			term.Field{Name: "snapshot", Cell: term.Cell{Text: fmt.Sprintf("as etcd gave it: revision %d, %s", out.Revision, words.Count(out.Objects, "object")), State: "good"}})
	} else {
		rows = append(rows, term.Field{Name: "file", Cell: term.Cell{Text: "NOT AS IT WAS WRITTEN: " + out.Error, State: "bad"}})
	}
	if out.Raised != nil {
		rows = append(rows, term.Field{Name: "raised", Cell: term.Cell{Text: "a member that was raised from it holds " + words.Count(*out.Raised, "object"), State: "good"}})
	}
	for _, c := range out.Copies {
		cell := term.Cell{Text: c.To + ": the same", State: "good"}
		if c.Error != "" {
			cell = term.Cell{Text: c.To + ": NOT THE SAME: " + c.Error, State: "bad"}
		}
		rows = append(rows, term.Field{Name: "copy", Cell: cell})
	}
	a.UI.Fields(rows)
	return end
}

func copyCmd(a *desk.App) *cobra.Command {
	var back bool
	c := &cobra.Command{
		Use: "copy NAME TO", Short: "Send a backup off to a folder or an OCI registry, or get one back",
		Long: `The file is sent as it is: it is encrypted already. It is read there once more before it
counts as a copy; verbund backup verify --copies does that again later.

A place in a registry is oci://HOST/REPOSITORY; the tag is the backup's name unless one
is given, and the digest of the artefact is remembered. Credentials are those that are
kept for the registry on this computer, as container tools keep them.

With --back a copy is fetched from where it lies: a file, or a place in a registry with
its tag or digest.`,
		Example: "  verbund backup copy newest /mnt/vault\n  verbund backup copy before-the-fair oci://registry.seamark.test/kept/tidewatch\n  verbund backup copy --back oci://registry.seamark.test/kept/tidewatch:20261127-090000-v1.36.3",
		RunE: func(_ *cobra.Command, args []string) error {
			if back {
				if len(args) != 1 {
					return term.Usage("--back takes where it lies: a file, or oci://HOST/REPOSITORY:TAG")
				}
				return fetchBack(a, args[0])
			}
			if len(args) != 2 {
				return term.Usage("copy takes a backup and where it is to go: a folder, or oci://HOST/REPOSITORY")
			}
			s, f, err := find(a, args[0])
			if err != nil {
				return err
			}
			defer s.Close()
			if f.Trouble != nil && !errors.Is(f.Trouble, keep.ErrOther) {
				return fmt.Errorf("backup %s cannot be used here, so it is not sent off: %w", f.Name, f.Trouble)
			}
			cp, err := keep.Copy(a.Hard, s, f, args[1])
			if err != nil {
				return fmt.Errorf("copying backup %s to %s: %w", f.Name, args[1], err)
			}
			if a.Output == "json" {
				return a.UI.JSON(cp)
			}
			where := cp.To
			if cp.Digest != "" {
				where += "@" + cp.Digest
			}
			a.UI.Say("backup %s lies at %s, and was read there", f.Short(), where)
			return nil
		},
	}
	c.Flags().BoolVar(&back, "back", false, "fetch a copy from where it lies")
	return c
}

func fetchBack(a *desk.App, from string) error {
	s, err := a.Open(false)
	if err != nil {
		return err
	}
	defer s.Close()
	f, err := keep.Fetch(a.Hard, s, from)
	if err != nil {
		return fmt.Errorf("fetching %s: %w", from, err)
	}
	if a.Output == "json" {
		return a.UI.JSON(said(f))
	}
	a.UI.Say("backup %s is here again", f.Short())
	if f.Trouble != nil {
		return fmt.Errorf("it cannot be used here: %w", f.Trouble)
	}
	return nil
}

func dropCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{
		Use: "drop NAME…", Short: "Take backups away; copies elsewhere stay",
		Long:    "The last one that can be used goes only by the cluster's name (--confirm).",
		Example: "  verbund backup drop 20261127-090000-v1.36.3",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return term.Usage("drop takes backups: verbund backup list")
			}
			s, err := a.Open(false)
			if err != nil {
				return err
			}
			defer s.Close()
			var names []string
			for _, n := range args {
				f, err := named(s, n)
				if err != nil {
					return err
				}
				if !slices.Contains(names, f.Name) {
					names = append(names, f.Name)
				}
			}
			question := fmt.Sprintf("Take %s of cluster %s away (%s)?", words.Count(len(names), "backup"), s.Decl.Name, strings.Join(names, ", "))
			last := keep.Last(s, names)
			if last {
				err = a.AskByName(s.Decl.Name, "no backup of it is left here that can be used")
			} else {
				err = a.Ask(question)
			}
			if err != nil {
				return err
			}
			release, err := desk.Held(s, "backup drop")
			if err != nil {
				return err
			}
			defer release()
			if err := keep.Drop(s, names, last); err != nil {
				return err
			}
			a.UI.Say("%s of cluster %s taken away", words.Are(len(names), "backup"), s.Decl.Name)
			return nil
		},
	}
	return a.Asks(c)
}
