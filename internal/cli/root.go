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

	engineact "verbund/internal/engine/act"
	"verbund/internal/engine/converge"
	"verbund/internal/engine/kubeconfig"
	"verbund/internal/engine/session"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"verbund/internal/core/plan"
	"verbund/internal/core/versions"
	"verbund/internal/sim"
	"verbund/internal/store"
)

// The exit codes.
const (
	exitDone        = 0
	exitFailed      = 1
	exitUsage       = 2
	exitNotWell     = 3
	exitLocked      = 4
	exitInterrupted = 130
)

// exit is an error with an exit code; without a message it has been told already.
type exit struct {
	code int
	err  error
}

func (e *exit) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exit) Unwrap() error { return e.err }

func usage(format string, args ...any) error { return &exit{exitUsage, fmt.Errorf(format, args...)} }

// app is what all commands share.
type app struct {
	*ui

	dir      string // folder of the declaration; empty: the current one
	file     string
	mayLose  []string // selectors of pods
	parallel int
	unlock   string // file that opens the store
	keyDir   string // of key files, if not the person's own

	// command runs another command line of this program.
	command func(a *app, args []string) int
}

// Main runs the program and returns its exit code.
func Main(args []string, in io.Reader, out, errw io.Writer) int {
	if handled, err := sim.Main(args); handled {
		if err != nil {
			fmt.Fprintln(errw, err)
			return exitFailed
		}
		return exitDone
	}
	// A command lives for moments and on little memory: collecting garbage
	// rarely makes reading a large declaration a fifth faster.
	debug.SetGCPercent(400)
	a := &app{ui: &ui{in: in, out: out, err: errw}, command: func(a *app, args []string) int { return a.run(args) }}
	hard, cancel := context.WithCancel(context.Background())
	defer cancel()
	soft, stop := context.WithCancel(hard)
	defer stop()
	a.soft, a.hard = soft, hard
	sig := make(chan os.Signal, 2)
	signal.Notify(sig, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer signal.Stop(sig)
	go func() {
		<-sig
		if a.asking.Load() {
			fmt.Fprintln(errw)
		} else {
			fmt.Fprintln(errw, "\ninterrupted: the running steps are finished, no other is begun; once more to stop at once")
		}
		stop()
		<-sig
		cancel()
	}()
	return a.run(args)
}

// run executes one command line.
func (a *app) run(args []string) int {
	root := a.root()
	root.SetArgs(args)
	root.SetIn(a.in)
	root.SetOut(a.out)
	root.SetErr(a.err)
	err := root.ExecuteContext(a.soft)
	if err == nil {
		return exitDone
	}
	code := exitFailed
	var x *exit
	var locked *store.Locked
	var misnamed *plan.Misnamed
	var failed *converge.Failed
	var mistake *converge.Mistake
	var pending *converge.Pending
	var foreign *kubeconfig.Foreign
	switch {
	case errors.As(err, &x):
		code = x.code
	case errors.As(err, &failed):
		code = exitFailed
	case errors.As(err, &mistake), errors.As(err, &foreign):
		code = exitUsage
	case errors.As(err, &pending):
		code = exitNotWell
	case errors.As(err, &locked):
		code = exitLocked
	case errors.As(err, &misnamed), errors.Is(err, session.ErrNotMet):
		code = exitUsage
	case errors.Is(err, engineact.ErrInterrupted) || a.soft.Err() != nil:
		code = exitInterrupted
	}
	if msg := err.Error(); msg != "" {
		if code == exitInterrupted && !errors.Is(err, errAtQuestion) {
			msg = "interrupted; it is safe to run the same command again, which goes on from here"
		}
		a.ui.problem(msg)
	}
	return code
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "verbund",
		Short: "Raise, upgrade and keep Kubernetes clusters",
		Long: `Verbund raises, upgrades and keeps Kubernetes clusters. You declare a cluster
in NAME.verbund.yaml; converge brings about what is missing, and can be run
again at any time: it looks at what is there and goes on.

New here? "verbund demo" lives through everything in about a minute.`,
		SilenceErrors: true, SilenceUsage: true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			a.style()
			if a.output != "text" && a.output != "json" {
				return usage("--output %s is not known; choose text or json", a.output)
			}
			if a.parallel < 1 {
				return usage("--parallel %d is not possible; 1 is the least", a.parallel)
			}
			return nil
		},
	}
	a.style()
	root.CompletionOptions.HiddenDefaultCmd = false
	f := root.PersistentFlags()
	f.StringVarP(&a.file, "file", "f", "", "the declaration, if not the only one in this folder")
	f.StringVarP(&a.output, "output", "o", "text", "text or json")
	f.BoolVar(&a.quiet, "quiet", false, "say only what went wrong")
	f.BoolVar(&a.verbose, "verbose", false, "say more: why each step is needed, what each certificate is for")
	f.BoolVar(&a.noColor, "no-color", false, "no colours, as with NO_COLOR")
	f.StringVar(&a.unlock, "unlock", "", "file that opens the store: a key file, an SSH key, or one with the passphrase in its first line")
	f.IntVar(&a.parallel, "parallel", 16, "how many steps and questions at a time")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return &exit{exitUsage, err} })
	groups := []struct {
		title string
		cmds  []*cobra.Command
	}{
		{"Write", []*cobra.Command{a.draftCmd(), a.checkCmd(), a.versionsCmd(), a.renderCmd()}},
		{"Act", []*cobra.Command{a.planCmd(), a.convergeCmd(), a.scaleCmd(), a.upgradeCmd(), a.replaceCmd(), a.clearCmd(), a.teardownCmd()}},
		{"Look", []*cobra.Command{a.statusCmd(), a.nodesCmd(), a.machinesCmd(), a.inspectCmd(), a.logsCmd(), a.historyCmd(), a.surveyCmd(), a.collectCmd()}},
		{"Enter", []*cobra.Command{a.accessCmd(), a.hostsCmd()}},
		{"Trust", []*cobra.Command{a.trustCmd(), a.tokenCmd(), a.requestsCmd()}},
		{"Practise", []*cobra.Command{a.siteCmd(), a.demoCmd()}},
	}
	for _, g := range groups {
		root.AddGroup(&cobra.Group{ID: g.title, Title: g.title + ":"})
		for _, c := range g.cmds {
			c.GroupID = g.title
			root.AddCommand(c)
		}
	}
	root.AddCommand(a.storeCmd(), a.versionCmd(), a.manCmd(root))
	root.InitDefaultCompletionCmd()
	// Flags of which one says yes by naming them need no more than their name.
	cobra.AddTemplateFunc("plainFlags", func(f *pflag.FlagSet) string {
		const value = "[=true|false]"
		return strings.ReplaceAll(f.FlagUsages(), value, strings.Repeat(" ", len(value)))
	})
	root.SetUsageTemplate(strings.NewReplacer(".LocalFlags.FlagUsages", "plainFlags .LocalFlags", ".InheritedFlags.FlagUsages", "plainFlags .InheritedFlags").Replace(root.UsageTemplate()))
	mistakes(root)
	a.completes(root)
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
			var x *exit
			if err != nil && !errors.As(err, &x) {
				err = &exit{exitUsage, err}
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
		return usage("%s has no command %q; %s", cmd.CommandPath(), args[0], cmp.Or(suggestion(args[0], known), "it has "+strings.Join(known, ", ")))
	}
	c.RunE = func(cmd *cobra.Command, _ []string) error { return cmd.Help() }
}

// noArgs is cobra.NoArgs with our exit code.
func noArgs(cmd *cobra.Command, args []string) error {
	if len(args) > 0 {
		return usage("%s takes no argument, and %q was given", cmd.Name(), args[0])
	}
	return nil
}

func exactArgs(n int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != n {
			return usage("%s needs %s", cmd.Name(), what)
		}
		return nil
	}
}

// drains adds the flag of commands that empty nodes.
func (a *app) drains(c *cobra.Command) *cobra.Command {
	c.Flags().StringArrayVar(&a.mayLose, "may-lose", nil, "label selector of pods that may be lost for good when their node is emptied, as mayLose in the declaration")
	return a.asks(c)
}

// asks adds the flags of commands that change things.
func (a *app) asks(c *cobra.Command) *cobra.Command {
	c.Flags().BoolVarP(&a.yes, "yes", "y", false, "do not ask")
	c.Flags().StringVar(&a.confirm, "confirm", "", "the cluster's name, where data or quorum could be lost")
	return c
}

func (a *app) versionCmd() *cobra.Command {
	return &cobra.Command{Use: "version", Short: "Show the version of this program", Args: noArgs, RunE: func(*cobra.Command, []string) error {
		v := buildVersion()
		if a.output == "json" {
			return a.ui.json(versionSaid{v, versions.Shipped().Versions()})
		}
		fmt.Fprintf(a.out, "verbund %s\n", v)
		return nil
	}}
}

// buildVersion is what the build recorded: a release's version, or the commit.
func buildVersion() string {
	bi, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	v, rev, dirty := bi.Main.Version, "", ""
	for _, s := range bi.Settings {
		switch s.Key {
		case "vcs.revision":
			rev = s.Value[:min(12, len(s.Value))]
		case "vcs.modified":
			if s.Value == "true" {
				dirty = ", with changes"
			}
		}
	}
	if v == "" || v == "(devel)" {
		v = "development"
	}
	if rev != "" {
		v += " (" + rev + dirty + ")"
	}
	return v
}
