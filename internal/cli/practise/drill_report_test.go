package practise

import (
	"strings"
	"testing"
	"time"

	"verbund/internal/core/drill"
)

// What is drawn of the writes has a scale, and says where the longest pause was.
func TestPictureOfWrites(t *testing.T) {
	m := drill.Measured{Seconds: 4, Acks: []float64{0.1, 0.2, 0.3, 0.4, 2.9, 3.5}}
	p := drillPicture(&drill.Report{Drill: "zone-cut", Cluster: "tidewatch", Measured: m})
	if p.Top != "top: 8 a second" || len(p.Marks) != 1 || p.Marks[0].From != 400*time.Millisecond || p.Marks[0].To != 2900*time.Millisecond || !strings.Contains(p.Marks[0].Text, "2.5 s") {
		t.Errorf("%q, %+v", p.Top, p.Marks)
	}
	if p := drillPicture(&drill.Report{}); p.Top != "" || len(p.Marks) > 0 {
		t.Errorf("without a write: %q, %+v", p.Top, p.Marks)
	}
}
