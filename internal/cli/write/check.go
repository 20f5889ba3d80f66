package write

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/words"
)

// MergedSaid is a declaration with all that it extends, as JSON.
type MergedSaid struct {
	Merged string `json:"merged"` // YAML, with a comment at each value that says where it came from
}

// CheckCmd is verbund check.
func CheckCmd(a *desk.App) *cobra.Command {
	var rules, merged, strict bool
	var schema string
	c := &cobra.Command{
		Use: "check [FILE…]", Short: "Check declarations: findings with file, line and column",
		Long: `Reads declarations with everything that they name (the files that they extend,
their site, catalogue and pins) and prints every finding at once: the place, what is
wrong, what to do, and the rule. Exit code 2 when one is an error.`,
		Example: "  verbund check\n  verbund check --strict --output json\n  verbund check --merged\n  verbund check --schema > declaration.schema.json",
		RunE: func(_ *cobra.Command, args []string) error {
			switch {
			case rules:
				return showRules(a)
			case schema != "":
				return showSchema(a, schema)
			}
			if len(args) == 0 {
				p, err := a.FindDeclaration()
				if err != nil {
					return err
				}
				args = []string{p}
			}
			if merged {
				return showMerged(a, args)
			}
			all := declare.Findings{}
			for _, p := range args {
				r, err := a.Read(p)
				if err != nil {
					return err
				}
				all = append(all, r.Findings...)
			}
			if strict {
				for i := range all {
					// What an exception accepts stays accepted.
					if all[i].Reason == "" {
						all[i].Severity = declare.Error
					}
				}
			}
			if a.Output == "json" {
				if err := a.UI.JSON(all); err != nil {
					return err
				}
			} else {
				a.PrintFindings(all)
				a.UI.Say("%s: %s, %s", strings.Join(args, ", "), words.Count(all.Errors(), "error"), words.Count(len(all)-all.Errors(), "warning"))
			}
			if all.Errors() > 0 {
				return &term.Exit{Code: term.ExitUsage}
			}
			return nil
		},
	}
	f := c.Flags()
	f.BoolVar(&rules, "rules", false, "list every rule that is checked")
	f.BoolVar(&merged, "merged", false, "print the declaration as it stands after extending, and where each value came from")
	f.BoolVar(&strict, "strict", false, "take warnings for errors")
	f.StringVar(&schema, "schema", "", "print the JSON Schema of declarations, or with =site that of site files")
	f.Lookup("schema").NoOptDefVal = "declaration"
	return c
}

func showRules(a *desk.App) error {
	if a.Output == "json" {
		return a.UI.JSON(declare.Rules)
	}
	var rows [][]term.Cell
	for _, r := range declare.Rules {
		state := ""
		if r.Severity == declare.Error {
			state = "bad"
		} else {
			state = "attention"
		}
		open := ""
		if r.Open {
			open = "yes"
		}
		what := r.What
		if r.Living {
			what = "before a roll-out: " + what
		}
		rows = append(rows, []term.Cell{term.Plain(r.ID), {Text: string(r.Severity), State: state}, term.Plain(open), term.Plain(what)})
	}
	a.UI.Table([]string{"rule", "severity", "exceptions", "found when"}, rows)
	return nil
}

func showSchema(a *desk.App, of string) error {
	make, ok := map[string]func() ([]byte, error){"declaration": declare.DeclarationSchema, "site": declare.SiteFileSchema}[of]
	if !ok {
		return term.Usage("there is no schema of %q; choose declaration or site", of)
	}
	b, err := make()
	if err != nil {
		return err
	}
	_, err = a.Out.Write(b)
	return err
}

func showMerged(a *desk.App, files []string) error {
	for _, p := range files {
		r, err := a.Read(p)
		if err != nil {
			return err
		}
		text, err := r.Merged()
		if err != nil {
			return err
		}
		if a.Output == "json" {
			if err := a.UI.JSON(MergedSaid{text}); err != nil {
				return err
			}
		} else {
			fmt.Fprint(a.Out, text)
		}
		if n := r.Findings.Errors(); n > 0 {
			a.PrintFindings(r.Findings)
			return &term.Exit{Code: term.ExitUsage}
		}
	}
	return nil
}
