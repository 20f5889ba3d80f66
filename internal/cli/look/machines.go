package look

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/engine/look"
	"verbund/internal/site"
)

// place orders machines as they are declared.
func place(v *look.View, name string) int {
	for i, m := range v.Cluster.Machines {
		if m.Name == name {
			return i
		}
	}
	return len(v.Cluster.Machines)
}

// MachinesCmd is verbund machines.
func MachinesCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "machines", Short: "Show the site's machines of this cluster", Args: term.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			s, v, err := a.View()
			if err != nil {
				return err
			}
			defer s.Close()
			if v.Inventory == nil {
				return fmt.Errorf("site %s was not seen: %w", s.Decl.Site, cmp.Or(look.Unseen(s, v), v.SiteError))
			}
			ms := slices.DeleteFunc(slices.Clone(v.Inventory.Machines), func(m site.Machine) bool { return m.Cluster != s.Decl.Name })
			if a.Output == "json" {
				list := []MachineSaid{}
				for _, m := range ms {
					seen := v.Seen.Machines[m.Name]
					list = append(list, MachineSaid{m, s.SiteFile.Kind, seen.Reached, look.Runs(seen), seen.Active, seen.Units})
				}
				return a.UI.JSON(list)
			}
			slices.SortFunc(ms, func(x, y site.Machine) int { return place(v, x.Name) - place(v, y.Name) })
			var rows [][]term.Cell
			for _, m := range ms {
				seen := v.Seen.Machines[m.Name]
				power := term.Cell{Text: m.Power, State: map[string]string{site.PowerOn: "good", site.PowerBooting: "attention"}[m.Power]}
				if power.State == "" {
					power.State = "bad"
				}
				set := cmp.Or(look.Runs(seen), "nothing installed")
				up, all := 0, 0
				for _, st := range seen.Units {
					if all++; st == "active" {
						up++
					}
				}
				units := term.Cell{Text: fmt.Sprintf("%d of %d", up, all), State: "good"}
				if up < all || all == 0 {
					units.State = "bad"
				}
				if !seen.Reached {
					set, units = "not reached", term.Cell{Text: "", State: ""}
				}
				rows = append(rows, []term.Cell{term.Plain(m.Name), power, term.Plain(set), term.Plain(cmp.Or(seen.Active, "-")), units, term.Plain(m.Zone), term.Plain(m.Size), term.Plain(m.Address.String()), term.Plain(fmt.Sprint(m.SSHPort)), term.Plain(cmp.Or(m.Hardware, "-"))})
			}
			if what := whatIsReal(s.SiteFile.Kind, v); what != "" {
				a.UI.Say("site %s: %s", s.Decl.Site, what)
			}
			for _, c := range v.Inventory.Cuts {
				if c.Delay > 0 {
					a.UI.Say("site %s: what zone %s sends to zone %s takes %s longer, as somebody wanted: site fault mended-network %s,%s", s.Decl.Site, c.From, c.To, c.Delay, c.From, c.To)
					continue
				}
				a.UI.Say("site %s: of what zone %s sends to zone %s, %d %% are lost, as somebody wanted: site fault mended-network %s,%s", s.Decl.Site, c.From, c.To, c.Percent, c.From, c.To)
			}
			a.UI.Table([]string{"machine", "power", "runs", "slot", "services", "zone", "size", "address", "ssh", "hardware address"}, rows, "hardware address", "ssh", "size", "slot", "address", "zone")
			return nil
		},
	}
}

// realMachines says what the machines are of sites whose machines are real systems.
var realMachines = map[string]string{
	declare.LinuxSite:  "real Linux systems on this computer, with real components",
	declare.ListedSite: "listed machines, with real components",
}

// whatIsReal says what is no stand-in at a site; where nothing is, it says nothing.
func whatIsReal(kind string, v *look.View) string {
	if what := realMachines[kind]; what != "" {
		return what
	}
	var all []string
	for _, m := range v.Seen.Machines {
		all = append(all, m.Real...)
	}
	slices.Sort(all)
	if all = slices.Compact(all); len(all) == 0 {
		return ""
	}
	return "simulated machines, on which these are real: " + strings.Join(all, ", ")
}

// MachineSaid is one machine, as JSON.
type MachineSaid struct {
	site.Machine
	Kind     string            `json:"kind"` // of its site: simulated; linux or listed for a real system
	Reached  bool              `json:"reached"`
	Runs     string            `json:"runs"` // version of what it is there for
	Slot     string            `json:"slot"` // in use
	Services map[string]string `json:"services"`
}
