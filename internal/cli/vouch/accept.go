package vouch

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/words"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
	"verbund/internal/whole"
)

func trustAcceptCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "accept FILE…", Short: "Take certificates that somebody outside has signed", Args: cobra.MinimumNArgs(1),
		Long: "Takes PEM files, or - for standard input. Each certificate is held against its\nrequest: key, names, usages, authority and life. What is right is kept, what is wrong\nis refused by name and changes nothing. Exit code 1 when something was refused.",
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.Open(false)
			if err != nil {
				return err
			}
			defer s.Close()
			c, err := s.Topology()
			if err != nil {
				return err
			}
			files := map[string][]byte{}
			for _, f := range args {
				var b []byte
				if f == "-" {
					b, err = io.ReadAll(a.In)
				} else {
					b, err = whole.Read(f)
				}
				if err != nil {
					return term.Usage("%v", err)
				}
				files[f] = b
			}
			if !s.Store.Exists() {
				return session.ErrNoTrust
			}
			release, err := s.Store.Lock("trust accept")
			if err != nil {
				return err
			}
			defer release()
			answers, err := vouch.Accept(s, c, files, time.Now())
			if err != nil {
				return err
			}
			refused := 0
			for _, x := range answers {
				if len(x.Wrong) > 0 {
					refused++
				}
			}
			if a.Output == "json" {
				err = a.UI.JSON(answers)
			} else {
				for _, x := range answers {
					if len(x.Wrong) > 0 {
						fmt.Fprintf(a.Out, "refused %s: %s\n", strings.TrimPrefix(x.ID+" ("+x.File+")", " "), strings.Join(x.Wrong, "; "))
					}
				}
			}
			a.UI.Say("accepted %s, refused %d", words.Count(len(answers)-refused, "certificate"), refused)
			if due, _, werr := vouch.Waiting(s, c, time.Now()); werr == nil && len(due) > 0 {
				a.UI.Say("%s still wait: trust request writes their requests again", words.Count(len(due), "certificate"))
			}
			if err == nil && (refused > 0 || len(answers) == 0) {
				return &term.Exit{Code: term.ExitFailed, Err: errors.New("not everything could be accepted")}
			}
			return err
		},
	}
}
