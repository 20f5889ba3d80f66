package act

import (
	"context"
	"encoding/csv"
	"fmt"
	"strings"

	"verbund/internal/core/nodeconf"
	"verbund/internal/engine/session"
	"verbund/internal/machine/protocol"
)

// balanced is one server of a balancer, as the balancer sees it.
type balanced struct {
	backend, name, status string
	up                    bool
}

// servers asks a balancer how it sees its servers: the statistics of HAProxy's runtime API
// (management guide, 9.1), of which the columns are found by their names.
func servers(ctx context.Context, c session.Machine) ([]balanced, error) {
	text, err := c.Ask(ctx, nodeconf.BalancerSocket, "show stat")
	if err != nil {
		return nil, err
	}
	rows, err := csv.NewReader(strings.NewReader(strings.TrimPrefix(strings.TrimSpace(text), "# "))).ReadAll()
	if err != nil || len(rows) == 0 {
		return nil, fmt.Errorf("the balancer's statistics cannot be read: %w", err)
	}
	at := map[string]int{}
	for i, h := range rows[0] {
		at[h] = i
	}
	for _, h := range []string{"pxname", "svname", "status"} {
		if _, ok := at[h]; !ok {
			return nil, fmt.Errorf("the balancer's statistics have no column %s", h)
		}
	}
	var out []balanced
	for _, r := range rows[1:] {
		b := balanced{backend: r[at["pxname"]], name: r[at["svname"]], status: r[at["status"]]}
		if b.name == "FRONTEND" || b.name == "BACKEND" {
			continue
		}
		// A server that is about to change its state shows how far it is: UP 1/3.
		b.up = b.status == "UP" || strings.HasPrefix(b.status, "UP ") || b.status == "no check"
		out = append(out, b)
	}
	return out, nil
}

// balancing is the process that balances: after a reload it is another one. Nothing when it
// cannot be asked.
func balancing(ctx context.Context, c session.Machine) string {
	text, err := c.Ask(ctx, nodeconf.BalancerSocket, "show info")
	if err != nil {
		return ""
	}
	for l := range strings.Lines(text) {
		if pid, ok := strings.CutPrefix(strings.TrimSpace(l), "Pid: "); ok {
			return pid
		}
	}
	return ""
}

// reload has a balancer take its configuration up, and waits until a process that has done
// so answers.
func reload(ctx context.Context, c session.Machine, unit string) error {
	before := balancing(ctx, c)
	if err := c.Do(ctx, protocol.UnitsReload, unit); err != nil {
		return err
	}
	return session.Until(ctx, unit+" to take its configuration up", func(ctx context.Context) (string, error) {
		if now := balancing(ctx, c); now == "" || now == before {
			return "the process from before still answers", nil
		}
		return "", nil
	})
}
