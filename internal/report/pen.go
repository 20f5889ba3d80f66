package report

import (
	"fmt"
	"image/color"
	"io"

	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"golang.org/x/image/font/opentype"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"
)

// Formats lists the endings that Draw knows.
var Formats = []string{"svg", "png"}

// paint writes a picture of a height in a format; draw makes it.
func paint(w io.Writer, format string, height vg.Length, draw func(*pen)) error {
	var c interface {
		vg.CanvasSizer
		io.WriterTo
	}
	switch format {
	case "svg":
		c = vgsvg.New(width, height)
	case "png":
		c = vgimg.PngCanvas{Canvas: vgimg.NewWith(vgimg.UseWH(width, height), vgimg.UseDPI(96), vgimg.UseBackgroundColor(paper))}
	default:
		return fmt.Errorf("there is no picture in format %q; choose svg or png", format)
	}
	// One of the twelve that come with the library's collection is all that is written in.
	ttf, err := opentype.Parse(liberationsansregular.TTF)
	if err != nil {
		return err
	}
	sans := font.Font{Typeface: "Liberation", Variant: "Sans"}
	fonts := font.NewCache(font.Collection{{Font: sans, Face: ttf}})
	face := func(size vg.Length) font.Face { return fonts.Lookup(sans, size) }
	p := &pen{Canvas: c, body: face(textSize), small: face(9), head: face(15)}
	p.box(0, 0, width, height, paper)
	draw(p)
	_, err = c.WriteTo(w)
	return err
}

// pen draws what pictures are made of.
type pen struct {
	vg.Canvas
	body, small, head font.Face
}

func (p *pen) text(f font.Face, x, y vg.Length, s string, col color.Color) {
	p.SetColor(col)
	p.FillString(f, vg.Point{X: x, Y: y}, s)
}

func (p *pen) box(x, y, w, h vg.Length, col color.Color) {
	var path vg.Path
	path.Move(vg.Point{X: x, Y: y})
	path.Line(vg.Point{X: x + w, Y: y})
	path.Line(vg.Point{X: x + w, Y: y + h})
	path.Line(vg.Point{X: x, Y: y + h})
	path.Close()
	p.SetColor(col)
	p.Fill(path)
}
