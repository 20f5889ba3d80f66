package report

import (
	"image/color"
	"io"
	"math"

	"gonum.org/v1/plot/vg"
)

// Mood is the state of a certificate; its text says the same in words.
type Mood int

// The moods.
const (
	Well Mood = iota
	Soon      // it ends soon
	Bad
	None // there is no certificate
)

var moods = map[Mood]color.Color{
	Well: color.RGBA{0x3f, 0x7d, 0x58, 255}, Soon: color.RGBA{0xc9, 0x82, 0x1f, 255}, Bad: color.RGBA{0xa6, 0x2f, 0x2f, 255}, None: color.RGBA{0x8a, 0x8f, 0x96, 255},
}

// Shown is a certificate that one side shows, and with which authority the
// other side verifies it.
type Shown struct {
	Name, Authority, Until string
	Mood                   Mood
}

// Link is a connection: who connects to whom.
type Link struct {
	From, Where string
	Client      Shown
	Server      Shown
}

// LinkGroup are the links that lead to one place.
type LinkGroup struct {
	To    string
	Links []Link
}

// Links is a picture of who shows which certificate to whom.
type Links struct {
	Title, Note string
	Groups      []LinkGroup
}

// The measures of a picture of links, in points.
const (
	linkHeight = 44
	groupGap   = 14
	fromWidth  = 190
	toWidth    = 150
	linksHead  = 60
	linksFoot  = 46
)

func (l *Links) height() vg.Length {
	h := linksHead + linksFoot
	for _, g := range l.Groups {
		h += len(g.Links)*linkHeight + groupGap
	}
	return vg.Length(h)
}

// Draw writes the picture in a format.
func (l *Links) Draw(w io.Writer, format string) error {
	height := l.height()
	return paint(w, format, height, func(p *pen) { l.draw(p, height) })
}

func (l *Links) draw(c *pen, height vg.Length) {
	text, box, body, small := c.text, c.box, c.body, c.small
	disc := func(x, y vg.Length, col color.Color) {
		var p vg.Path
		p.Move(vg.Point{X: x + 3.5, Y: y})
		p.Arc(vg.Point{X: x, Y: y}, 3.5, 0, 2*math.Pi)
		p.Close()
		c.SetColor(col)
		c.Fill(p)
	}
	// arrow from one side to the other, its head at the second.
	arrow := func(x0, x1, y vg.Length, col color.Color) {
		box(min(x0, x1), y-0.6, max(x0, x1)-min(x0, x1), 1.2, col)
		d := vg.Length(7)
		if x1 < x0 {
			d = -d
		}
		var p vg.Path
		p.Move(vg.Point{X: x1, Y: y})
		p.Line(vg.Point{X: x1 - d, Y: y + 3.5})
		p.Line(vg.Point{X: x1 - d, Y: y - 3.5})
		p.Close()
		c.SetColor(col)
		c.Fill(p)
	}
	text(c.head, margin, height-margin-8, l.Title, ink)
	left, right := vg.Length(margin+fromWidth), vg.Length(width-margin-toWidth)
	y := height - linksHead
	shown := func(x0, x1, y vg.Length, s Shown, verifier string) {
		if s.Mood == None {
			arrow(x0, x1, y, moods[None])
			text(small, min(x0, x1)+14, y+3.5, s.Name, moods[None])
			return
		}
		arrow(x0, x1, y, moods[s.Mood])
		at := min(x0, x1) + 14
		disc(at, y+8, moods[s.Mood])
		text(body, at+8, y+4, s.Name, ink)
		at += 8 + body.Width(s.Name) + 10
		text(small, at, y+4, s.Until, moods[s.Mood])
		by := verifier + " " + s.Authority
		text(small, max(x0, x1)-14-small.Width(by), y+4, by, ink)
	}
	for _, g := range l.Groups {
		h := vg.Length(len(g.Links) * linkHeight)
		box(right, y-h+4, toWidth, h-8, color.RGBA{0xe6, 0xea, 0xed, 255})
		text(body, right+10, y-h/2-3, g.To, ink)
		for _, k := range g.Links {
			box(margin, y-linkHeight+4, fromWidth, linkHeight-8, color.RGBA{0xf1, 0xee, 0xe6, 255})
			text(body, margin+10, y-linkHeight/2+1, k.From, ink)
			text(small, margin+10, y-linkHeight/2-11, k.Where, moods[None])
			shown(left+4, right-4, y-linkHeight/2+5, k.Client, "verified with")
			shown(right-4, left+4, y-linkHeight/2-15, k.Server, "verified with")
			y -= linkHeight
		}
		y -= groupGap
	}
	x := vg.Length(margin)
	for _, k := range []struct {
		mood Mood
		text string
	}{{Well, "well"}, {Soon, "ends soon, or is due"}, {Bad, "something is wrong with it"}, {None, "no certificate"}} {
		disc(x+4, 34, moods[k.mood])
		text(body, x+13, 30.5, k.text, ink)
		x += 13 + body.Width(k.text) + 22
	}
	text(body, margin, 12, l.Note, ink)
}
