package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"verbund/internal/agent/systemd"
	"verbund/internal/cli/act"
	"verbund/internal/cli/desk"
	"verbund/internal/cli/enter"
	"verbund/internal/cli/keep"
	"verbund/internal/cli/look"
	"verbund/internal/cli/practise"
	"verbund/internal/cli/rollout"
	"verbund/internal/cli/term"
	"verbund/internal/cli/vouch"
	"verbund/internal/cli/write"
	"verbund/internal/core/plan"
	"verbund/internal/core/versions"
	engineact "verbund/internal/engine/act"
	"verbund/internal/engine/converge"
	"verbund/internal/engine/kubeconfig"
	"verbund/internal/engine/session"
	"verbund/internal/sim"
	"verbund/internal/store"
	"verbund/internal/unit"
	"verbund/internal/unit/approver"
	"verbund/internal/unit/carrier"
	"verbund/internal/unit/keeper"
)

// Main runs the program and returns its exit code.
func Main(args []string, in io.Reader, out, errw io.Writer) int {
	handled, err := unit.Main(os.Args[0], args, map[string]unit.Program{"request-approver": approver.Run, "endpoint-carrier": carrier.Run, "backup-keeper": keeper.Run})
	if !handled {
		handled, err = sim.Main(args)
	}
	if !handled {
		handled, err = systemd.Main(args, os.Stdin, os.Stdout)
	}
	if handled {
		if err != nil {
			fmt.Fprintln(errw, err)
			if errors.Is(err, unit.ErrUsage) {
				return term.ExitUsage
			}
			return term.ExitFailed
		}
		return term.ExitDone
	}
	// A command lives for moments and on little memory: collecting garbage
	// rarely makes reading a large declaration a fifth faster.
	debug.SetGCPercent(400)
	a := &desk.App{UI: &term.UI{In: in, Out: out, Err: errw}, Command: run}
	hard, cancel := context.WithCancel(context.Background())
	defer cancel()
	soft, stop := context.WithCancel(hard)
	defer stop()
	a.Soft, a.Hard = soft, hard
	sig := make(chan os.Signal, 2)
	signal.Notify(sig, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer signal.Stop(sig)
	// Nobody reads on where a pipe closes: what was begun goes on to its end without a word. (Not
	// ignored, which programs that are started would inherit.)
	closed := make(chan os.Signal, 1)
	signal.Notify(closed, syscall.SIGPIPE)
	defer signal.Stop(closed)
	go func() {
		<-sig
		if a.Asking.Load() {
			fmt.Fprintln(errw)
		} else {
			fmt.Fprintln(errw, "\ninterrupted: what changes something is finished, no other step is begun; once more to stop at once")
		}
		stop()
		<-sig
		cancel()
	}()
	return run(a, args)
}

// run executes one command line.
func run(a *desk.App, args []string) int {
	root := root(a)
	root.SetArgs(args)
	root.SetIn(a.In)
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	err := root.ExecuteContext(a.Soft)
	if err == nil {
		err = a.UI.ToldAll()
	}
	if err == nil || errors.Is(err, syscall.EPIPE) {
		return term.ExitDone
	}
	code := term.ExitFailed
	var x *term.Exit
	var locked *store.Locked
	var misnamed *plan.Misnamed
	var failed *converge.Failed
	var mistake *converge.Mistake
	var pending *converge.Pending
	var foreign *kubeconfig.Foreign
	var held *engineact.Held
	var unproven *converge.Unproven
	switch {
	case errors.As(err, &x):
		code = x.Code
	case errors.As(err, &failed):
		code = term.ExitFailed
	case errors.As(err, &mistake), errors.As(err, &foreign):
		code = term.ExitUsage
	case errors.As(err, &pending), errors.As(err, &held), errors.As(err, &unproven):
		code = term.ExitNotWell
	case errors.As(err, &locked):
		code = term.ExitLocked
	case errors.As(err, &misnamed), errors.Is(err, session.ErrNotMet):
		code = term.ExitUsage
	case errors.Is(err, engineact.ErrInterrupted) || a.Soft.Err() != nil:
		code = term.ExitInterrupted
	}
	if msg := err.Error(); msg != "" {
		if code == term.ExitInterrupted && !errors.Is(err, term.ErrAtQuestion) {
			msg = "interrupted; it is safe to run the same command again, which goes on from here"
		}
		if held != nil {
			a.UI.Say("%s", msg) // nothing went wrong
			return code
		}
		a.UI.Problem(msg, code)
	}
	return code
}

func root(a *desk.App) *cobra.Command {
	root := &cobra.Command{
		Use:   "verbund",
		Short: "Raise, upgrade and keep Kubernetes clusters",
		Long: `Verbund raises, upgrades and keeps Kubernetes clusters. You declare a cluster
in NAME.verbund.yaml; converge brings about what is missing, and can be run
again at any time: it looks at what is there and goes on.

New here? "verbund demo" lives through everything in about a minute.`,
		SilenceErrors: true, SilenceUsage: true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			a.Style()
			if a.Output != "text" && a.Output != "json" {
				return term.Usage("--output %s is not known; choose text or json", a.Output)
			}
			if a.Output == "json" {
				a.Tell()
				cmd.Root().SetOut(a.Out)
			}
			if a.Parallel < 1 {
				return term.Usage("--parallel %d is not possible; 1 is the least", a.Parallel)
			}
			return nil
		},
	}
	a.Style()
	root.CompletionOptions.HiddenDefaultCmd = false
	f := root.PersistentFlags()
	f.StringVarP(&a.File, "file", "f", "", "the declaration, if not the only one in this folder")
	f.StringVarP(&a.Output, "output", "o", "text", "text or json")
	f.BoolVar(&a.Quiet, "quiet", false, "say only what went wrong")
	f.BoolVar(&a.Verbose, "verbose", false, "say more: why each step is needed, what each certificate is for")
	f.BoolVar(&a.NoColor, "no-color", false, "no colours, as with NO_COLOR")
	f.StringVar(&a.Unlock, "unlock", "", "file that opens the store: a key file, an SSH key, or one with the passphrase in its first line")
	f.IntVar(&a.Parallel, "parallel", 16, "how many steps and questions at a time")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return &term.Exit{Code: term.ExitUsage, Err: err} })
	groups := []struct {
		title string
		cmds  []*cobra.Command
	}{
		{"Write", []*cobra.Command{write.DraftCmd(a), write.CheckCmd(a), write.VersionsCmd(a), write.RenderCmd(a)}},
		{"Act", []*cobra.Command{act.PlanCmd(a), act.ConvergeCmd(a), act.ScaleCmd(a), act.UpgradeCmd(a), act.ReplaceCmd(a), act.ClearCmd(a), act.TeardownCmd(a)}},
		{"Roll out", []*cobra.Command{rollout.Cmd(a)}},
		{"Look", []*cobra.Command{look.StatusCmd(a), look.NodesCmd(a), look.MachinesCmd(a), look.InspectCmd(a), look.LogsCmd(a), look.HistoryCmd(a), look.SurveyCmd(a), look.CollectCmd(a)}},
		{"Enter", []*cobra.Command{enter.AccessCmd(a), enter.HostsCmd(a)}},
		{"Trust", []*cobra.Command{vouch.TrustCmd(a), vouch.TokenCmd(a), vouch.RequestsCmd(a)}},
		{"Keep", []*cobra.Command{keep.BackupCmd(a), keep.ProveCmd(a)}},
		{"Practise", []*cobra.Command{practise.RehearseCmd(a), practise.DrillCmd(a), practise.SiteCmd(a), practise.DemoCmd(a)}},
	}
	for _, g := range groups {
		root.AddGroup(&cobra.Group{ID: g.title, Title: g.title + ":"})
		for _, c := range g.cmds {
			c.GroupID = g.title
			root.AddCommand(c)
		}
	}
	root.AddCommand(keep.StoreCmd(a), versionCmd(a), manCmd(a, root))
	root.InitDefaultCompletionCmd()
	helps(root)
	mistakes(root)
	completes(a, root)
	return root
}

// mistakes makes wrong use of every command exit with 2, and say what may have been
// meant: of commands that only hold others, too, which would show their help.
func mistakes(c *cobra.Command) {
	for _, sub := range c.Commands() {
		mistakes(sub)
	}
	if c.Args != nil {
		check := c.Args
		c.Args = func(cmd *cobra.Command, args []string) error {
			err := check(cmd, args)
			var x *term.Exit
			if err != nil && !errors.As(err, &x) {
				err = &term.Exit{Code: term.ExitUsage, Err: err}
			}
			return err
		}
	}
	if c.Runnable() || !c.HasSubCommands() {
		return
	}
	c.Args = func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return nil
		}
		var known []string
		for _, sub := range cmd.Commands() {
			if sub.IsAvailableCommand() {
				known = append(known, sub.Name())
			}
		}
		slices.Sort(known)
		return term.Usage("%s has no command %q; %s", cmd.CommandPath(), args[0], cmp.Or(term.Suggestion(args[0], known), "it has "+strings.Join(known, ", ")))
	}
	c.RunE = func(cmd *cobra.Command, _ []string) error { return cmd.Help() }
}

func versionCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{Use: "version", Short: "Show the version of this program", Args: term.NoArgs, RunE: func(*cobra.Command, []string) error {
		v := term.BuildVersion()
		if a.Output == "json" {
			return a.UI.JSON(versionSaid{v, versions.Shipped().Versions()})
		}
		fmt.Fprintf(a.Out, "verbund %s\n", v)
		return nil
	}}
}
