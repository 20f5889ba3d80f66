package vouch

import (
	"bytes"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/trust"
	"verbund/internal/core/words"
	"verbund/internal/engine/look"
	"verbund/internal/report"
	"verbund/internal/whole"
)

func trustGraphCmd(a *desk.App) *cobra.Command {
	var file string
	c := &cobra.Command{
		Use: "graph", Short: "Show who presents which certificate to whom, and who verifies it with what", Args: term.NoArgs,
		Long:    "Reads the connections from the rendered configuration of every machine, and the\nstate of the certificates from the machines and the wire, as trust list does.",
		Example: "  verbund trust graph\n  verbund trust graph --picture trust.svg",
		RunE: func(*cobra.Command, []string) error {
			format := strings.TrimPrefix(filepath.Ext(file), ".")
			if file != "" && !slices.Contains(report.Formats, format) {
				return term.Usage("a picture %s cannot be drawn; give a file that ends in .svg or .png", file)
			}
			s, v, err := a.View()
			if err != nil {
				return err
			}
			defer s.Close()
			r, err := look.Inspect(a.Soft, s, v, time.Now())
			if err != nil {
				return err
			}
			links := nodeconf.Connections(v.Cluster)
			if file != "" {
				var b bytes.Buffer
				if err := picture(s.Decl.Name, links, r.Entries).Draw(&b, format); err != nil {
					return err
				}
				if err := whole.Write(file, b.Bytes(), 0o644); err != nil {
					return err
				}
				a.UI.Say("drew %s", file)
				return nil
			}
			if a.Output == "json" {
				return a.UI.JSON(links)
			}
			var rows [][]term.Cell
			for _, k := range links {
				rows = append(rows, []term.Cell{term.Plain(k.From), term.Plain(k.To), term.Plain(signedBy(k.Shows, k.ShowsVerified)), term.Plain(signedBy(k.Serves, k.ServesVerified))})
			}
			a.UI.Table([]string{"from", "to", "the client shows, verified with", "the server shows, verified with"}, rows)
			return nil
		},
	}
	c.Flags().StringVar(&file, "picture", "", "draw it into a file that ends in .svg or .png")
	return c
}

func signedBy(name, by string) string {
	switch {
	case name == "":
		return "-"
	case by == "":
		return name + ", not verified"
	}
	return name + ", " + by
}

// picture lays the connections out, with the state of the worst certificate of
// each kind.
func picture(cluster string, links []nodeconf.Connection, entries []trust.Entry) *report.Links {
	shown := func(name, by string) report.Shown {
		s := report.Shown{Name: name, Authority: by, Mood: report.None}
		if name == "" {
			s.Name = "shows none"
			return s
		}
		var ends time.Time
		for _, e := range entries {
			if e.ID[strings.LastIndex(e.ID, "/")+1:] != name {
				continue
			}
			if ends.IsZero() || e.Expires.Before(ends) {
				ends = e.Expires
			}
			mood := report.Well
			if len(e.Troubles) > 0 {
				mood = report.Bad
				if len(e.Troubles) == 1 && strings.Contains(e.Troubles[0], "is due to be renewed") {
					mood = report.Soon
				}
			}
			if s.Mood == report.None || mood > s.Mood {
				s.Mood = mood
			}
		}
		if ends.IsZero() {
			s.Name += " certificate, each until its own end"
			return s
		}
		s.Until = "until " + ends.Format(time.DateOnly)
		if s.Mood == report.Bad {
			s.Until += ", something is wrong"
		}
		return s
	}
	p := &report.Links{Title: "Trust in cluster " + cluster, Note: fmt.Sprintf("Connections from the rendered configuration, certificates as they are on the machines and on the wire, %s. Of several of one kind the one that ends first is shown.", time.Now().Format("2006-01-02 15:04"))}
	for _, k := range links {
		if len(p.Groups) == 0 || p.Groups[len(p.Groups)-1].To != k.To {
			p.Groups = append(p.Groups, report.LinkGroup{To: k.To})
		}
		g := &p.Groups[len(p.Groups)-1]
		where := "from outside the cluster"
		if len(k.On) > 0 {
			where = "on " + words.Count(len(k.On), "machine")
		}
		client, server := shown(k.Shows, k.ShowsVerified), shown(k.Serves, k.ServesVerified)
		if k.Serves == "" && k.ServesVerified == "" {
			server.Name = "shows one of its own"
		}
		g.Links = append(g.Links, report.Link{From: k.From, Where: where, Client: client, Server: server})
	}
	return p
}
