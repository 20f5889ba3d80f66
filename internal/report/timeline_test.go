package report

import (
	"bytes"
	"encoding/xml"
	"image/png"
	"io"
	"strings"
	"testing"
	"time"
)

func example() *Timeline {
	return &Timeline{Title: "Plan of tidewatch", Note: "8 s", Rows: []Row{
		{Name: "tidewatch-control-1", Bars: []Bar{{0, 2 * time.Second, "get", Bring}, {2 * time.Second, 8 * time.Second, "start API server", Run}}},
		{Name: "tidewatch-gauges-1", Bars: []Bar{{8 * time.Second, 8*time.Second + 5*time.Millisecond, "too narrow for this", Wait}}},
	}}
}

func TestSVG(t *testing.T) {
	var b bytes.Buffer
	if err := example().Draw(&b, "svg"); err != nil {
		t.Fatal(err)
	}
	var texts []string
	d := xml.NewDecoder(bytes.NewReader(b.Bytes()))
	for {
		tok, err := d.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatalf("the picture is no XML: %v", err)
		}
		if c, ok := tok.(xml.CharData); ok && strings.TrimSpace(string(c)) != "" {
			texts = append(texts, strings.TrimSpace(string(c)))
		}
	}
	all := strings.Join(texts, "|")
	for _, want := range []string{"Plan of tidewatch", "tidewatch-control-1", "get", "start API server", "wait until well", "bring", "8 s"} {
		if !strings.Contains(all, want) {
			t.Errorf("%q is not in the picture: %s", want, all)
		}
	}
	if strings.Contains(all, "remove") {
		t.Error("the legend explains a colour that is not there")
	}
	if strings.Contains(all, "too narrow") {
		t.Error("a text is written over its bar's end")
	}
}

func TestPNG(t *testing.T) {
	var b bytes.Buffer
	if err := example().Draw(&b, "png"); err != nil {
		t.Fatal(err)
	}
	img, err := png.Decode(&b)
	if err != nil {
		t.Fatal(err)
	}
	colours := map[[3]uint32]bool{}
	for y := range img.Bounds().Dy() {
		for x := range img.Bounds().Dx() {
			r, g, bl, _ := img.At(x, y).RGBA()
			colours[[3]uint32{r >> 8, g >> 8, bl >> 8}] = true
		}
	}
	if !colours[[3]uint32{0x4f, 0x8a, 0x83}] || !colours[[3]uint32{255, 255, 255}] {
		t.Errorf("bars or paper are missing among %d colours", len(colours))
	}
	if err := example().Draw(&b, "gif"); err == nil {
		t.Error("a format that is not known was drawn")
	}
}

func TestLanes(t *testing.T) {
	s := time.Second
	p := &Timeline{Rows: []Row{{Name: "cluster", Bars: []Bar{{0, 2 * s, "a", Run}, {s, 3 * s, "b", Run}, {2 * s, 4 * s, "c", Run}, {2 * s, 3 * s, "d", Run}}}, {Name: "one", Bars: []Bar{{0, s, "e", Wait}, {s, 2 * s, "f", Wait}}}}}
	p.Lanes()
	got := ""
	for _, r := range p.Rows {
		got += r.Name + ":"
		for _, b := range r.Bars {
			got += b.Text
		}
		got += " "
	}
	if got != "cluster:ac :b :d one:ef " {
		t.Errorf("lanes are %s", got)
	}
}

func TestTicks(t *testing.T) {
	for _, total := range []time.Duration{time.Second, 7 * time.Second, 45 * time.Second, 9 * time.Minute, 3 * time.Hour} {
		if n := total / tick(total); n < 2 || n > 12 {
			t.Errorf("%s has %d lines", total, n)
		}
	}
}
