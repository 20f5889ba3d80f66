package desk

import (
	"github.com/spf13/cobra"

	"verbund/internal/cli/term"
	"verbund/internal/store"
)

// App is what all commands share.
type App struct {
	*term.UI

	Dir      string // folder of the declaration; empty: the current one
	File     string
	MayLose  []string // selectors of pods
	Without  string   // why the declared watches have no say
	Parallel int
	// MachinesOnly has status not ask about workloads.
	MachinesOnly bool
	Steps        bool   // show the steps of a roll-out one by one
	Unlock       string // file that opens the store
	KeyDir       string // of key files, if not the person's own

	// OnEntry also gets every journal entry.
	OnEntry func(store.Entry)
	// Command runs another command line of this program.
	Command func(a *App, args []string) int
}

// Drains adds the flag of commands that empty nodes.
func (a *App) Drains(c *cobra.Command) *cobra.Command {
	c.Flags().StringArrayVar(&a.MayLose, "may-lose", nil, "label selector of pods that may be lost for good when their node is emptied, as mayLose in the declaration")
	c.Flags().StringVar(&a.Without, "without-watch", "", "go on though a declared watch may have broken its limit, with the reason, which the journal keeps")
	return a.Asks(c)
}

// Asks adds the flags of commands that change things.
func (a *App) Asks(c *cobra.Command) *cobra.Command {
	c.Flags().BoolVarP(&a.Yes, "yes", "y", false, "do not ask")
	c.Flags().BoolVar(&a.Steps, "steps", false, "when asked, show the steps of a roll-out one by one, too")
	c.Flags().StringVar(&a.Confirm, "confirm", "", "the cluster's name, where data or quorum could be lost")
	return c
}
