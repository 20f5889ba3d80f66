package cli

import (
	"io"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/drill"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/engine/keep"
	"verbund/internal/engine/session"
	enginevouch "verbund/internal/engine/vouch"
	"verbund/internal/site/simulated"
	"verbund/internal/store"
)

// completes gives every command the words that can stand after it, worked out from the
// declaration and the memory alone: nothing is asked over a network, and what cannot be
// worked out is not offered. It is long because it is a list, one command after the other.
func completes(a *desk.App, root *cobra.Command) {
	of := func(f func(c *topology.Cluster) []string) func() []string {
		return func() []string {
			c := known(a)
			if c == nil {
				return nil
			}
			return f(c)
		}
	}
	machines := of(func(c *topology.Cluster) (out []string) {
		for _, m := range c.Machines {
			out = append(out, m.Name)
		}
		return out
	})
	pools := of(func(c *topology.Cluster) []string { return plan.Parts(c)[2:] })
	parts := of(plan.Parts)
	certificates := of(func(c *topology.Cluster) (out []string) {
		for _, r := range enginevouch.Known(c) {
			out = append(out, r.ID)
		}
		return out
	})
	zones := of(func(c *topology.Cluster) (out []string) {
		for _, m := range c.Machines {
			out = append(out, m.Zone)
		}
		return out
	})
	practised := func() []string { return drills(a) }
	words := func(ws ...string) func() []string { return func() []string { return ws } }
	catalogue := func() []string {
		cat := versions.Shipped()
		quietly(a, func(s *session.Session) { cat = s.Cat }) // a declaration may name its own
		return cat.Versions()
	}
	above := func() []string {
		c := known(a)
		return slices.DeleteFunc(catalogue(), func(v string) bool { return c != nil && versions.Compare(v, c.Set.Kubernetes) <= 0 })
	}
	backups := func() (out []string) {
		quietly(a, func(s *session.Session) {
			for _, p := range keep.Names(s) {
				out = append(out, filepath.Base(p))
			}
		})
		slices.Reverse(out)
		return append([]string{keep.Newest}, out...)
	}
	runs := func() []string {
		out := []string{"last"}
		quietly(a, func(s *session.Session) {
			es, _, _ := s.Store.Entries()
			for _, e := range slices.Backward(es) {
				if e.Kind == store.RunBegan {
					out = append(out, e.Run)
				}
			}
		})
		return out
	}
	units := of(func(c *topology.Cluster) (out []string) {
		for _, m := range c.Machines {
			for _, u := range nodeconf.Units(m) {
				out = append(out, strings.TrimSuffix(u, ".service"))
			}
		}
		return out
	})
	groups := func() []string { return append([]string{"control"}, pools()...) }
	// By place, nil for files; where more may follow, the last one stands for them.
	for path, args := range map[string][]func() []string{
		"scale": {pools}, "upgrade": {above}, "replace": {machines}, "clear": {machines}, "inspect": {machines}, "logs": {machines}, "drill": {practised}, "history": {runs},
		"site power": {machines, words("on", "off", "cut", "restart")}, "site console": {machines}, "site fault": {words(faults()...), machines},
		"trust show": {certificates}, "trust renew": {certificates}, "trust replace": {words(trust.Replaceable...)}, "rollout back": {groups},
		"backup show": {backups}, "backup verify": {backups}, "backup restore": {backups}, "backup drop": {backups}, "backup copy": {backups, nil}, "plan show": {nil}, "plan approve": {nil}, "store move": {words("etcd://", "folder")}, "store admit": {nil, nil},
	} {
		cmd, _, err := root.Find(strings.Fields(path))
		if err != nil {
			continue
		}
		more := strings.Contains(cmd.Use, "…")
		cmd.ValidArgsFunction = func(_ *cobra.Command, have []string, _ string) ([]string, cobra.ShellCompDirective) {
			n := len(have)
			if n >= len(args) {
				if !more {
					return nil, cobra.ShellCompDirectiveNoFileComp
				}
				n = len(args) - 1
			}
			if path == "site fault" && n == 1 && have[0] == "lost-zone" {
				return unique(zones(), nil), cobra.ShellCompDirectiveNoFileComp
			}
			if args[n] == nil {
				return nil, cobra.ShellCompDirectiveDefault
			}
			return unique(args[n](), have), cobra.ShellCompDirectiveNoFileComp
		}
	}
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		flag := func(name string, of func() []string) {
			if c.Flags().Lookup(name) != nil {
				c.RegisterFlagCompletionFunc(name, func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
					return unique(of(), nil), cobra.ShellCompDirectiveNoFileComp
				})
			}
		}
		flag("only", parts)
		flag("machine", machines)
		flag("pool", pools)
		flag("kubernetes", catalogue)
		flag("from", catalogue)
		if to := c.Flags().Lookup("to"); to != nil && strings.Contains(to.Usage, "version") { // and no folder
			flag("to", above)
		}
		flag("unit", units)
		flag("shape", words("small", "available", "wide"))
		for _, sub := range c.Commands() {
			walk(sub)
		}
		// What takes no argument offers no files.
		if c.ValidArgsFunction == nil && c.Runnable() && !c.HasSubCommands() && c.Args != nil && c.Args(c, []string{"x"}) != nil {
			c.ValidArgsFunction = cobra.NoFileCompletions
		}
	}
	walk(root)
	root.RegisterFlagCompletionFunc("output", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return []string{"text", "json"}, cobra.ShellCompDirectiveNoFileComp
	})
	root.MarkPersistentFlagFilename("file", "verbund.yaml", "yaml")
}

// known is the declared cluster, as far as it can be worked out without a word.
func known(a *desk.App) (c *topology.Cluster) {
	quietly(a, func(s *session.Session) { c, _ = s.Topology() })
	return c
}

// drills are the names of the shipped and the declared ones.
func drills(a *desk.App) (out []string) {
	quietly(a, func(s *session.Session) {
		for _, d := range drill.All(topology.Endpoint{}, s.Decl.Drills) {
			out = append(out, d.Name)
		}
	})
	return out
}

// quietly opens the declared cluster without a word, if that can be.
func quietly(a *desk.App, f func(*session.Session)) {
	quiet := &desk.App{UI: &term.UI{In: strings.NewReader(""), Out: io.Discard, Err: io.Discard, Quiet: true, Output: "text", Soft: a.Soft, Hard: a.Hard}, Dir: a.Dir, File: a.File, KeyDir: a.KeyDir, Parallel: 1}
	quiet.Style()
	s, err := quiet.Open(false)
	if err != nil {
		return
	}
	defer s.Close()
	if s.Store.Who() != "" {
		return // it lies elsewhere, and would be asked over a network
	}
	f(s)
}

// unique leaves out what stands there already, and what comes twice.
func unique(words, have []string) []string {
	seen := map[string]bool{}
	for _, h := range have {
		seen[h] = true
	}
	out := []string{}
	for _, w := range words {
		if !seen[w] {
			seen[w] = true
			out = append(out, w)
		}
	}
	return out
}

func faults() []string {
	machines, artefacts, zones := simulated.Faults()
	return slices.Concat(machines, artefacts, zones)
}
