package desk

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"verbund/internal/cli/term"
	"verbund/internal/core/plan"
	"verbund/internal/core/words"
	"verbund/internal/engine/act"
	"verbund/internal/engine/look"
	"verbund/internal/store"
)

// progress tells a run: finished steps as lines, and on a terminal the running
// ones below them, redrawn. Into a pipe a step that takes long is told once.
type progress struct {
	a     *App
	usual look.Durations
	total int
	steps map[string]plan.Step

	mu      sync.Mutex
	done    int
	running []run
	drawn   int // lines of the live part
	began   time.Time
	quit    chan struct{}
	ended   sync.WaitGroup
}

type run struct {
	store.Entry
	told bool
}

func newProgress(a *App, usual look.Durations, steps []plan.Step) *progress {
	p := &progress{a: a, usual: usual, total: len(steps), steps: map[string]plan.Step{}, quit: make(chan struct{})}
	for _, s := range steps {
		p.steps[s.ID] = s
	}
	return p
}

// Start begins to look at the clock.
func (p *progress) Start() {
	p.began = time.Now()
	p.ended.Go(func() {
		every := 100 * time.Millisecond
		t := time.NewTicker(every)
		defer t.Stop()
		for {
			select {
			case <-p.quit:
				return
			case <-t.C:
				p.tick()
			}
		}
	})
}

// Stop takes the live part away.
func (p *progress) Stop() {
	close(p.quit)
	p.ended.Wait()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.wipe()
	p.running = nil
}

// longWait is from when on a wait is told into a pipe.
const longWait = 5 * time.Second

func (p *progress) tick() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.a.UI.Live {
		p.wipe()
		p.draw()
		return
	}
	for i := range p.running {
		r := &p.running[i]
		if time.Since(r.Time) > longWait && !r.told && p.a.Output != "json" && !p.a.Quiet {
			r.told = true
			p.line(r.Entry, "waits", "since "+term.Seconds(time.Since(r.Time))+": "+p.waits(r.Entry))
		}
	}
}

// waits says what a step waits for, how long that usually takes and from when
// on one should worry.
func (p *progress) waits(e store.Entry) string {
	about := plan.Kind(e.What).About()
	usual, worry := about.Usual, about.Worry
	ends := ""
	if st, ok := p.steps[e.Step]; ok && st.Within > 0 {
		worry, ends = min(worry, st.Within/2), ", given up after "+term.Seconds(st.Within)
	}
	if d, ok := p.usual.Of(e.What, e.Where); ok {
		usual = d
	}
	s := fmt.Sprintf("%s; usually %s, worry from %s%s", e.Text, term.Seconds(usual), term.Seconds(worry), ends)
	if about.Hint != "" {
		s += "; " + about.Hint
	}
	return s
}

func (p *progress) wipe() {
	if p.drawn > 0 {
		fmt.Fprintf(p.a.Err, "\x1b[%dA\x1b[J", p.drawn)
		p.drawn = 0
	}
}

// draw shows the running steps, the longest first.
func (p *progress) draw() {
	if !p.a.UI.Live || len(p.running) == 0 {
		return
	}
	w := term.Width(p.a.Err)
	rs := slices.Clone(p.running)
	slices.SortStableFunc(rs, func(a, b run) int { return a.Time.Compare(b.Time) })
	const most = 8
	var lines []string
	for i, r := range rs {
		if i == most {
			lines = append(lines, fmt.Sprintf("%8s  and %d more", "", len(rs)-most))
			break
		}
		text := r.Text
		if time.Since(r.Time) > 2*time.Second {
			text = p.waits(r.Entry)
		}
		lines = append(lines, fmt.Sprintf("%8s  %-6s  %s  %s", term.Seconds(time.Since(r.Time)), "runs", where(r.Entry), text))
	}
	lines = append(lines, fmt.Sprintf("%8s  %d of %d steps are done", term.Seconds(time.Since(p.began)), p.done, p.total))
	for _, l := range lines {
		if rs := []rune(l); w > 1 && len(rs) > w-1 {
			l = string(rs[:w-2]) + "…"
		}
		if p.a.UI.ErrColour {
			l = p.a.UI.Faint.Render(l)
		}
		fmt.Fprintln(p.a.Err, l)
	}
	p.drawn = len(lines)
}

func where(e store.Entry) string { return fmt.Sprintf("%-22s", cmp.Or(e.Where, "cluster")) }

// line writes: when, where, what, how long.
func (p *progress) line(e store.Entry, state, text string) {
	when := e.Time.Local().Format("15:04:05")
	mark := map[string]string{"done": "ok", "failed": "failed", "waits": "waits", "holds": "holds", "note": "note"}[state]
	if p.a.UI.ErrColour {
		style := map[string]func(...string) string{"done": p.a.UI.Good.Render, "failed": p.a.UI.Bad.Render, "waits": p.a.UI.Attention.Render, "holds": p.a.UI.Attention.Render, "note": p.a.UI.Faint.Render}[state]
		mark = style(mark) + strings.Repeat(" ", max(0, 6-len(mark)))
	} else {
		mark = fmt.Sprintf("%-6s", mark)
	}
	fmt.Fprintf(p.a.Err, "%s  %s  %s  %s\n", when, mark, where(e), term.Visible(text))
}

// Entry takes a journal entry as it is written.
func (p *progress) Entry(e store.Entry) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.a.OnEntry != nil {
		p.a.OnEntry(e)
	}
	if p.a.Output == "json" {
		b, _ := json.Marshal(e)
		fmt.Fprintln(p.a.Out, string(b))
	}
	switch e.Kind {
	case store.StepBegan:
		p.running = append(p.running, run{Entry: e})
		return
	case store.StepDone, store.StepFailed, store.StepHeld:
		p.running = slices.DeleteFunc(p.running, func(r run) bool { return r.Step == e.Step })
		p.done++
	case store.Note:
	default:
		return
	}
	if p.a.Quiet || p.a.Output == "json" {
		return
	}
	p.wipe()
	defer p.draw()
	switch e.Kind {
	case store.StepDone:
		p.line(e, "done", e.Text+"  "+term.Seconds(time.Duration(e.Seconds*float64(time.Second))))
	case store.StepFailed:
		p.line(e, "failed", e.Text+"  "+term.Seconds(time.Duration(e.Seconds*float64(time.Second))))
	case store.Note:
		p.line(e, "note", e.Text)
	case store.StepHeld:
		p.line(e, "holds", e.Text)
	}
}

// Finish says how the run ended.
func (p *progress) Finish(id string, err error) {
	took := term.Seconds(time.Since(p.began))
	var held *act.Held
	switch {
	case errors.As(err, &held):
		p.a.UI.Say("held after %s and %s; verbund rollout shows where it stands", words.Count(p.done, "step"), took)
	case err == nil:
		p.a.UI.Say("done: %s in %s", words.Count(p.done, "step"), took)
	case errors.Is(err, act.ErrInterrupted):
		p.a.UI.Say("interrupted after %s and %s; run the same command again to go on", words.Count(p.done, "step"), took)
	default:
		p.a.UI.Say("stopped after %s and %s; verbund history %s has all of it", words.Count(p.done, "step"), took, id)
	}
}
