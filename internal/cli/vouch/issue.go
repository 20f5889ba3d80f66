package vouch

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/memory"
	"verbund/internal/core/trust"
	"verbund/internal/engine/act"
	"verbund/internal/engine/vouch"
	"verbund/internal/whole"
)

func trustIssueCmd(a *desk.App) *cobra.Command {
	var names []string
	var client, told bool
	var life, into, algorithm string
	c := &cobra.Command{
		Use: "issue PROGRAM", Short: "Issue a certificate for another program: an application, a dashboard", Args: term.ExactArgs(1, "the program's name"),
		Long: `Writes PROGRAM.crt, PROGRAM.key and the authority's certificate into a folder. The
authority is one of its own: nothing of the cluster trusts it, so that such a
certificate opens no door of the cluster. One that is declared under trust.programs
is kept and renewed by converge; here it is only written out. One that is not is
issued once and its key is not kept.`,
		Example: "  verbund trust issue tidetable --names tidetable.tidewatch.test --for 90d --into certs",
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Open(false)
			if err != nil {
				return err
			}
			defer s.Close()
			if into == "" {
				into = filepath.Join(a.Dir, args[0]+".trust")
			}
			if tree := desk.WorkTree(into); tree != "" && !told {
				return term.Usage("%s lies in a git work tree (%s), and private keys do not belong there; choose another folder with --into, or say --in-work-tree if that is meant", into, tree)
			}
			t, err := term.Span("for", life, time.Hour, 398*24*time.Hour)
			if err != nil {
				return err
			}
			if algorithm != "" && !slices.Contains(declare.Algorithms, algorithm) {
				return term.Usage("--algorithm %s is not known; choose one of %s", algorithm, strings.Join(declare.Algorithms, ", "))
			}
			declared := slices.ContainsFunc(s.Decl.Trust.Programs, func(p declare.Program) bool { return p.Name == args[0] })
			if declared && (len(names) > 0 || client || cmd.Flags().Changed("for") || algorithm != "") {
				return term.Usage("program %s is declared; change the declaration, and leave these flags out", args[0])
			}
			if !declared && len(names) == 0 && !client {
				return term.Usage("a certificate without --names is no server's; say --client if it is for a client, or declare %s under trust.programs", args[0])
			}
			release, err := desk.Held(s, "trust issue")
			if err != nil {
				return err
			}
			defer release()
			q := trust.Program(args[0], names, client, cmp.Or(algorithm, s.Decl.Trust.Algorithm), t, 0)
			files, g, err := vouch.IssueProgram(s, q, declared, time.Now())
			if err != nil {
				return err
			}
			if err := os.MkdirAll(into, 0o700); err != nil {
				return err
			}
			for name, b := range files {
				mode := os.FileMode(0o644)
				if strings.HasSuffix(name, ".key") {
					mode = 0o600
				}
				if err := whole.Write(filepath.Join(into, name), b, mode); err != nil {
					return err
				}
			}
			if !declared {
				if err := s.Remember(func(st *memory.State) { st.Give(g) }); err != nil {
					return err
				}
				err = a.Noted(s, nil, "trust issue", func(*act.Run) (string, error) {
					return fmt.Sprintf("issued a certificate for program %s, until %s, serial %s", g.Name, g.Until.Format(time.RFC3339), g.Serial), nil
				})
			}
			a.UI.Say("wrote %s.crt, %s.key and %s.crt to %s; it works until %s", args[0], args[0], trust.Programs, into, g.Until.Local().Format("2006-01-02 15:04"))
			return err
		},
	}
	c.Flags().StringSliceVar(&names, "names", nil, "names and addresses at which it serves")
	c.Flags().BoolVar(&client, "client", false, "it may also be shown as a client")
	c.Flags().StringVar(&life, "for", "90d", "how long it lives")
	c.Flags().StringVar(&into, "into", "", "the folder; PROGRAM.trust if not given")
	c.Flags().StringVar(&algorithm, "algorithm", "", "of its key, if not that of the declaration")
	c.Flags().BoolVar(&told, "in-work-tree", false, "also inside a git work tree")
	return c
}
