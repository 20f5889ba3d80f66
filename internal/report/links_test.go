package report

import (
	"bytes"
	"image/png"
	"strings"
	"testing"
)

func linksExample() *Links {
	return &Links{Title: "Trust in tidewatch", Note: "seen at noon", Groups: []LinkGroup{{To: "API server", Links: []Link{
		{From: "scheduler", Where: "on 3 machines", Client: Shown{"scheduler", "cluster-authority", "until 2027-11-23", Well}, Server: Shown{"api-server", "cluster-authority", "until 2026-11-30", Soon}},
		{From: "balancer", Where: "on 1 machine", Client: Shown{Name: "shows none", Mood: None}, Server: Shown{"api-server", "cluster-authority", "until 2020-01-01, something is wrong", Bad}},
	}}}}
}

// The picture says in words what its colours say.
func TestLinks(t *testing.T) {
	var b bytes.Buffer
	if err := linksExample().Draw(&b, "svg"); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Trust in tidewatch", "scheduler", "on 3 machines", "until 2027-11-23", "verified with cluster-authority", "shows none", "something is wrong", "ends soon, or is due", "seen at noon"} {
		if !strings.Contains(b.String(), want) {
			t.Errorf("%q is not in the picture", want)
		}
	}
	b.Reset()
	if err := linksExample().Draw(&b, "png"); err != nil {
		t.Fatal(err)
	}
	img, err := png.Decode(&b)
	if err != nil || img.Bounds().Dx() < 1000 {
		t.Errorf("the picture is %v, %v", img.Bounds(), err)
	}
	if err := linksExample().Draw(&b, "gif"); err == nil {
		t.Error("a format that is not there was drawn")
	}
}
