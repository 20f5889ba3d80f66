package practise

import (
	"fmt"
	"math"
	"strings"
	"time"

	"verbund/internal/core/drill"
	"verbund/internal/core/words"
	"verbund/internal/report"
)

// drillPage is a page about drills.
func drillPage(reports []*drill.Report) *report.Page {
	first := reports[0]
	p := &report.Page{Title: "Drills of cluster " + first.Cluster, Columns: []string{"longest pause", "writes", "lost"}}
	held, done := 0, 0
	for _, r := range reports {
		s := report.Section{ID: r.Drill, Title: r.Drill, Good: r.Holds(), Head: []string{"outcome", "supposed", "limit", "found"},
			Facts: [][2]string{{"supposes", r.Supposes}, {"hits", r.Hits}}}
		switch {
		case r.Unable != "":
			s.Open, s.Verdict = true, "not carried out here"
			s.Facts = append(s.Facts, [2]string{"since", r.Unable})
		case s.Good:
			s.Verdict = "holds"
			held++
		default:
			s.Verdict = "does not hold"
		}
		if r.Unable == "" {
			done++
			s.Facts = append(s.Facts, [2]string{"began", r.At.Format("2006-01-02 15:04:05 UTC")}, [2]string{"measured", r.Measured.String()})
			for _, w := range r.Measured.Watches {
				s.Facts = append(s.Facts, [2]string{"application", w.String()})
			}
			for _, c := range r.Claims {
				s.Rows = append(s.Rows, report.PageRow{Good: c.Holds, Cells: []string{map[bool]string{true: "holds", false: "does not hold"}[c.Holds], c.What, c.Limit, c.Measured}})
			}
			s.Picture = drillPicture(r)
			s.Short = []string{words.Brief(r.Measured.Pause), fmt.Sprint(r.Measured.Writes), lost(r.Measured)}
		}
		p.Sections = append(p.Sections, s)
	}
	p.Lead = fmt.Sprintf("%d of %s hold what they suppose, on %s. Every claim was measured while the cluster was disturbed, and looked at afterwards.", held, words.Count(done, "drill"), first.At.Format("2 January 2006"))
	return p
}

// lost is how many acknowledged writes were lost.
func lost(m drill.Measured) string {
	if !m.ReadBack {
		return "not read back"
	}
	return fmt.Sprint(len(m.Lost))
}

// drillPicture draws the steps of a drill over time, and below them how many writes were
// acknowledged.
func drillPicture(r *drill.Report) *report.Timeline {
	seconds := func(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
	t := &report.Timeline{Title: fmt.Sprintf("Drill %s of cluster %s", r.Drill, r.Cluster), Note: r.Measured.String(), Of: "writes"}
	for _, s := range r.Steps {
		tone := report.Wait
		switch {
		case s.Mends:
			tone = report.Mend
		case strings.HasPrefix(s.What, "verbund "):
			tone = report.Command
		case !strings.HasPrefix(s.What, "wait"):
			tone = report.Disturb
			if strings.HasPrefix(s.What, "mended-") || strings.HasPrefix(s.What, "power ") {
				tone = report.Mend
			}
		}
		t.Rows = append(t.Rows, report.Row{Name: s.What, Bars: []report.Bar{{From: seconds(s.From), To: seconds(s.To), Tone: tone}}})
	}
	// The clearing up and reading back at the end is a row of its own, so that the picture is
	// as long as what was measured.
	if n := len(r.Steps); n > 0 && r.Measured.Seconds > r.Steps[n-1].To {
		t.Rows = append(t.Rows, report.Row{Name: "look whether all is well", Bars: []report.Bar{{From: seconds(r.Steps[n-1].To), To: seconds(r.Measured.Seconds), Tone: report.Wait}}})
	}
	var most float64
	if t.Share, most = rates(r.Measured.Acks, r.Measured.Seconds); len(t.Share) > 0 {
		t.Top = fmt.Sprintf("top: %.0f a second", most)
		from, to := r.Measured.Paused()
		t.Marks = []report.Mark{{From: seconds(from), To: seconds(to), Text: "longest pause " + words.Brief(seconds(to-from))}}
	}
	return t
}

// rates are acknowledgements in equal parts of a time, as shares of the part with most of them, and
// how many a second those are.
func rates(acks []float64, total float64) ([]report.Level, float64) {
	const finest, least = 240, 0.25 // seconds: in less than that there may be none by chance
	if total <= 0 || len(acks) == 0 {
		return nil, 0
	}
	parts := max(1, min(finest, int(total/least)))
	n, most := make([]int, parts), 1
	for _, a := range acks {
		i := min(int(a/total*float64(parts)), parts-1)
		n[i]++
		most = max(most, n[i])
	}
	var out []report.Level
	for i, k := range n {
		out = append(out, report.Level{At: time.Duration(math.Round(total * float64(i) / float64(parts) * float64(time.Second))), Share: float64(k) / float64(most)})
	}
	return out, float64(most) / (total / float64(parts))
}
