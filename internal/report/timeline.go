package report

import (
	"fmt"
	"image/color"
	"io"
	"time"

	"gonum.org/v1/plot/vg"
)

// Bar is something that takes time on one machine.
type Bar struct {
	From, To time.Duration
	Text     string // what it is, written into it if there is room
	Tone     Tone
}

// Tone is the colour of a bar; the text says the same in words.
type Tone int

// The tones.
const (
	Bring   Tone = iota // something new: machines, artefacts, files
	Run                 // starting and restarting
	Away                // out of service
	Wait                // until something is well
	Removal             // what cannot be undone
	Disturb             // a fault on purpose
	Mend                // what puts it right
	Command             // one of the tool's own
)

// Row is one machine, or the cluster.
type Row struct {
	Name string
	Bars []Bar
}

// Timeline is a picture of rows over time.
type Timeline struct {
	Title string
	Note  string // below
	Rows  []Row
	Share []Level // of something, over the same time, drawn below the rows
	Of    string  // what Share is of
	Top   string  // what a share of 1 is, where it is no percentage; levels bear no figures then
	Marks []Mark  // below the rows, on Share
}

// Mark is a span of time that stands out, and what it is.
type Mark struct {
	From, To time.Duration
	Text     string
}

// Level is a share from a moment on, until the next one; 1 is all of it.
type Level struct {
	At    time.Duration
	Share float64
}

var tones = map[Tone]color.Color{
	Bring: color.RGBA{0x8f, 0xa9, 0xbf, 255}, Run: color.RGBA{0x4f, 0x8a, 0x83, 255}, Away: color.RGBA{0xe0, 0xa9, 0x58, 255},
	Wait: color.RGBA{0xd9, 0xd6, 0xce, 255}, Removal: color.RGBA{0xa6, 0x4b, 0x4b, 255},
	Disturb: color.RGBA{0xb0, 0x5a, 0x3c, 255}, Mend: color.RGBA{0x4f, 0x8a, 0x83, 255}, Command: color.RGBA{0x8f, 0xa9, 0xbf, 255},
}

var words = []struct {
	tone Tone
	text string
}{{Bring, "bring"}, {Run, "start, restart"}, {Away, "take out of service"}, {Wait, "wait until well"}, {Removal, "remove"}, {Disturb, "disturb"}, {Mend, "put right"}, {Command, "run"}}

var (
	ink   = color.RGBA{0x2b, 0x2e, 0x33, 255}
	faint = color.RGBA{0xc8, 0xc8, 0xc8, 255}
	paper = color.White
)

// The measures of the picture, in points.
const (
	rowHeight = 22
	barHeight = 15
	margin    = 20
	headRoom  = 66
	footRoom  = 54
	width     = 1100
	textSize  = 10
	shareRoom = 92
	shareHigh = 60 // of all of it
)

// Draw writes the picture in a format.
func (t *Timeline) Draw(w io.Writer, format string) error {
	height := vg.Length(headRoom + footRoom + rowHeight*max(len(t.Rows), 1))
	if len(t.Share) > 0 {
		height += shareRoom
	}
	return paint(w, format, height, func(p *pen) { t.draw(p, height) })
}

// Lanes splits rows whose bars overlap, so that each bar is seen: the further
// lanes of a row stand below it without a name.
func (t *Timeline) Lanes() {
	var out []Row
	for _, r := range t.Rows {
		lanes := []Row{{Name: r.Name}}
		for _, b := range r.Bars {
			i := 0
			for i < len(lanes) && len(lanes[i].Bars) > 0 && lanes[i].Bars[len(lanes[i].Bars)-1].To > b.From {
				i++
			}
			if i == len(lanes) {
				lanes = append(lanes, Row{})
			}
			lanes[i].Bars = append(lanes[i].Bars, b)
		}
		out = append(out, lanes...)
	}
	t.Rows = out
}

func (t *Timeline) draw(p *pen, height vg.Length) {
	text, box, body := p.text, p.box, p.body
	text(p.head, margin, height-margin-8, t.Title, ink)

	var names vg.Length
	total := time.Duration(0)
	for _, r := range append([]Row{{Name: t.Top}}, t.Rows...) {
		names = max(names, body.Width(r.Name))
		for _, b := range r.Bars {
			total = max(total, b.To)
		}
	}
	left := margin + names + 20 // fonts differ by who shows it
	room := vg.Length(width-margin) - left
	at := func(d time.Duration) vg.Length {
		if total == 0 {
			return left
		}
		return left + room*vg.Length(d)/vg.Length(total)
	}
	top := height - headRoom
	every := tick(total)
	for d := time.Duration(0); d <= total; d += every {
		x := at(d)
		box(x, footRoom, 0.5, top-footRoom+4, faint)
		label := clock(d, every)
		text(body, min(x-body.Width(label)/2, width-margin-body.Width(label)), top+8, label, ink)
	}
	for i, r := range t.Rows {
		y := top - vg.Length(i+1)*rowHeight
		text(body, margin, y+6, r.Name, ink)
		for _, b := range r.Bars {
			x := at(b.From)
			w := max(at(b.To)-x-1, 1)
			box(x, y+(rowHeight-barHeight)/2, w, barHeight, tones[b.Tone])
			if body.Width(b.Text)+6 < w {
				col := color.Color(color.White)
				if b.Tone == Wait || b.Tone == Away || b.Tone == Bring || b.Tone == Command {
					col = ink
				}
				text(body, x+3, y+7, b.Text, col)
			}
		}
	}
	t.share(p, at, total)
	used := map[Tone]bool{}
	for _, r := range t.Rows {
		for _, b := range r.Bars {
			used[b.Tone] = true
		}
	}
	x := vg.Length(margin)
	for _, k := range words {
		if !used[k.tone] {
			continue
		}
		box(x, 30, 12, 12, tones[k.tone])
		text(body, x+17, 32, k.text, ink)
		x += 17 + body.Width(k.text) + 22
	}
	text(body, margin, 12, t.Note, ink)
}

// share draws the levels below the rows, with a line at all of it.
func (t *Timeline) share(p *pen, at func(time.Duration) vg.Length, total time.Duration) {
	if len(t.Share) == 0 {
		return
	}
	const base = footRoom + 6
	p.text(p.body, margin, base+shareHigh-4, t.Of, ink)
	for i, l := range t.Share {
		until := total
		if i+1 < len(t.Share) {
			until = min(t.Share[i+1].At, total)
		}
		x, w := at(min(l.At, total)), at(until)-at(min(l.At, total))
		if w <= 0 {
			continue
		}
		high := vg.Length(shareHigh * l.Share)
		p.box(x, base, w, high, tones[Bring])
		if label := fmt.Sprintf("%.0f %%", l.Share*100); t.Top == "" && p.body.Width(label)+6 < w {
			p.text(p.body, x+3, base+4, label, ink)
		}
	}
	p.box(at(0), base+shareHigh, at(total)-at(0), 0.5, ink)
	if t.Top != "" {
		p.text(p.body, margin, base+shareHigh-18, t.Top, ink)
	}
	for _, m := range t.Marks {
		x, w := at(min(m.From, total)), at(min(m.To, total))-at(min(m.From, total))
		p.box(x, base, max(w, 1), shareHigh, tones[Wait])
		p.box(x, base+shareHigh, max(w, 1), 2, tones[Disturb])
		p.text(p.body, min(x, at(total)-p.body.Width(m.Text)), base+shareHigh+6, m.Text, ink)
	}
}

// tick is the distance of the lines: a round one, so that there are 4 to 12.
func tick(total time.Duration) time.Duration {
	for _, d := range []time.Duration{100 * time.Millisecond, 250 * time.Millisecond, 500 * time.Millisecond, time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 30 * time.Second,
		time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 30 * time.Minute, time.Hour, 3 * time.Hour, 12 * time.Hour} {
		if total/d <= 12 {
			return d
		}
	}
	return 24 * time.Hour
}

// clock writes a time with the precision of the lines' distance.
func clock(d, every time.Duration) string {
	switch {
	case every < time.Second:
		return fmt.Sprintf("%.2f s", d.Seconds())
	case every < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case every < time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	}
	return fmt.Sprintf("%.0f h", d.Hours())
}
