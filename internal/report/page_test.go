package report

import (
	"bytes"
	"strings"
	"testing"
	"time"
)

// A page needs nothing but itself, escapes what it is given, and says of each section what came
// of it.
func TestPage(t *testing.T) {
	p := &Page{Title: "Drills of <tidewatch>", Lead: "lead", Columns: []string{"pause"}, Sections: []Section{
		{ID: "a", Title: "a", Good: true, Verdict: "holds", Short: []string{"1 s"}, Facts: [][2]string{{"supposes", "a & b"}}, Head: []string{"outcome"}, Rows: []PageRow{{Cells: []string{"holds"}, Good: true}},
			Picture: &Timeline{Title: "a", Rows: []Row{{Name: "row", Bars: []Bar{{To: time.Second, Tone: Disturb}}}}, Of: "writes", Top: "9 a second", Marks: []Mark{{To: time.Second, Text: "pause"}}, Share: []Level{{Share: 1}}}},
		{ID: "b", Title: "b", Verdict: "does not hold"}, {ID: "c", Title: "c", Open: true, Verdict: "not carried out"},
	}}
	var b bytes.Buffer
	if err := p.Write(&b); err != nil {
		t.Fatal(err)
	}
	got := b.String()
	for _, want := range []string{"Drills of &lt;tidewatch&gt;", "a &amp; b", `class="good">holds`, `class="bad">does not hold`, `class="open">not carried out`, "<th>pause</th>", "<td>1 s</td>", "<svg", "disturb", `href="#b"`} {
		if !strings.Contains(got, want) {
			t.Errorf("the page has no %q", want)
		}
	}
	for _, not := range []string{"<script", "src=", "@import", "<?xml", "100 %"} {
		if strings.Contains(got, not) {
			t.Errorf("the page has %q", not)
		}
	}
	p.Sections = p.Sections[:1]
	b.Reset()
	if err := p.Write(&b); err != nil || strings.Contains(b.String(), "href=") {
		t.Errorf("a page of one section lists it: %v", err)
	}
}
