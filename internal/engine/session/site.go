package session

import (
	"context"

	"verbund/internal/site"
)

// Site is where a cluster's machines come from, whatever kind it is of. Its errors are
// site.ErrNotRunning when nothing is known because its process does not run, and a
// *site.Refused for what it will not do; any other says nothing about what there is.
type Site interface {
	// Inventory lists what the site has, machines of other clusters included.
	Inventory(ctx context.Context) (*site.Inventory, error)
	// Order gets a machine, or the one that was ordered before under this name.
	Order(ctx context.Context, name string, o site.Order) (*site.Machine, error)
	// Release gives a machine back with its disk and address; one that is not there is
	// given back already.
	Release(ctx context.Context, name string) error
	// Power switches a machine: on, off, cut or restart.
	Power(ctx context.Context, name, do string) error
	// Console is what a machine wrote to its console, its host key among it.
	Console(ctx context.Context, name string) (string, error)
	// Secrets are what it is asked with, which must not leave this computer.
	Secrets() [][]byte
	// Here says whether machines were ever ordered from it on this computer.
	Here() bool
}
