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

	"github.com/charmbracelet/lipgloss"

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
	rolls *rolling // of a roll-out; nil of anything else

	mu      sync.Mutex
	done    int
	running []run
	drawn   int       // lines of the live part
	began   time.Time // of the command
	round   int       // of the command; it tells from the second on
	quit    chan struct{}
	ended   sync.WaitGroup
}

type run struct {
	store.Entry
	told bool
}

func newProgress(a *App, usual look.Durations, steps []plan.Step, takes func(plan.Step) time.Duration) *progress {
	p := &progress{a: a, usual: usual, total: len(steps), began: time.Now(), steps: map[string]plan.Step{}, quit: make(chan struct{})}
	if !a.Verbose {
		p.rolls = newRolling(steps, a.Parallel, takes)
	}
	for _, s := range steps {
		p.steps[s.ID] = s
	}
	return p
}

// Start begins to look at the clock.
func (p *progress) Start() {
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
	if p.rolls != nil && p.a.UI.Live {
		p.draw() // the table stays as it is in the end
		p.drawn = 0
	}
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
			e := r.Entry
			e.Time = time.Now() // of the line, and not of the step
			p.line(e, "waits", "since "+term.Seconds(time.Since(r.Time))+": "+p.waits(r.Entry))
		}
	}
}

// waits says what a step waits for, how long that usually takes and from when
// on one should worry.
func (p *progress) waits(e store.Entry) string {
	about := plan.Kind(e.What).About()
	usual, worry := about.Usual, about.Worry
	until := "worry from " + term.Seconds(worry)
	if st, ok := p.steps[e.Step]; ok && st.Within > 0 {
		until = "given up after " + term.Seconds(st.Within) // and until then nobody has to worry
	}
	if d, ok := p.usual.Of(e.What, e.Where); ok {
		usual = d
	}
	s := fmt.Sprintf("%s; usually %s, %s", e.Text, term.Seconds(usual), until)
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
	if !p.a.UI.Live || len(p.running) == 0 && p.rolls == nil {
		return
	}
	w := term.Width(p.a.Err)
	if p.rolls != nil {
		lines := p.rolls.lines(p.a.UI, term.Height(p.a.Err)-1, p.done, p.total, p.ofRound()+", "+term.Seconds(time.Since(p.began))+" so far", p.longest())
		for _, l := range lines {
			fmt.Fprintln(p.a.Err, shortened(l, w))
		}
		p.drawn = len(lines)
		return
	}
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
	lines = append(lines, fmt.Sprintf("%8s  %d of %d steps are done%s", term.Seconds(time.Since(p.began)), p.done, p.total, p.ofRound()))
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

// ofRound says of which round steps are counted, where there was one before.
func (p *progress) ofRound() string {
	if p.round < 2 {
		return ""
	}
	return fmt.Sprintf(" of round %d", p.round)
}

func where(e store.Entry) string { return fmt.Sprintf("%-22s", cmp.Or(e.Where, "cluster")) }

// line writes: when, where, what, how long.
func (p *progress) line(e store.Entry, state, text string) {
	when := e.Time.Local().Format("15:04:05")
	mark := map[string]string{"done": "ok", "failed": "failed", "waits": "waits", "holds": "holds", "goes": "goes", "note": "note"}[state]
	head := fmt.Sprintf("%s  %-6s  %s  ", when, mark, where(e))
	text = p.a.UI.Hanging(head, term.Visible(text))
	if p.a.UI.ErrColour {
		style := map[string]func(...string) string{"done": p.a.UI.Good.Render, "failed": p.a.UI.Bad.Render, "waits": p.a.UI.Attention.Render, "holds": p.a.UI.Attention.Render, "goes": p.a.UI.Faint.Render, "note": p.a.UI.Faint.Render}[state]
		text = strings.Replace(text, mark, style(mark), 1)
	}
	fmt.Fprintln(p.a.Err, text)
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
	if p.rolls != nil && !p.a.Quiet && p.a.Output != "json" {
		if p.rolled(e) {
			return
		}
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

// rolled takes an entry of a roll-out. It says whether that was all that is to be told of it:
// of machines that roll a phase is told, and not each step.
func (p *progress) rolled(e store.Entry) bool {
	moved, mine := p.rolls.entry(e, p.steps[e.Step])
	switch e.Kind {
	case store.StepBegan:
		p.running = append(p.running, run{Entry: e})
	case store.StepDone, store.StepFailed, store.StepHeld:
		p.running = slices.DeleteFunc(p.running, func(r run) bool { return r.Step == e.Step })
		p.done++
	}
	if p.a.UI.Live {
		if text := p.toSay(e, mine); text != "" {
			p.rolls.message(e.Time.Local().Format("15:04:05") + "  " + where(e) + "  " + text)
		}
		return true
	}
	if moved != nil && moved.Phase != plan.Stuck {
		p.line(e, map[bool]string{true: "done", false: "goes"}[moved.Phase >= plan.Well], p.rolls.inWords(moved, e.Time))
	}
	switch {
	case e.Kind == store.StepFailed:
		p.line(e, "failed", e.Text+"  "+term.Seconds(time.Duration(e.Seconds*float64(time.Second))))
	case e.Kind == store.StepHeld:
		p.line(e, "holds", e.Text)
	case e.Kind == store.Note:
		p.line(e, "note", e.Text)
	case e.Kind == store.StepDone && !mine:
		p.line(e, "done", e.Text+"  "+term.Seconds(time.Duration(e.Seconds*float64(time.Second))))
	}
	return true
}

// toSay is what stands below the table of an entry: what is of no machine in it, and what
// failed. Most say nothing.
func (p *progress) toSay(e store.Entry, mine bool) string {
	switch {
	case e.Kind == store.StepFailed:
		return "failed: " + e.Text
	case e.Kind == store.StepHeld, e.Kind == store.Note:
		return e.Text
	case (e.Kind == store.StepDone || e.Kind == store.StepBegan && e.What == string(plan.Soak)) && !mine:
		return e.Text
	}
	return ""
}

// longest is the step that has run longest, when that is no moment any more: what is waited
// for there, and from when on one should worry.
func (p *progress) longest() string {
	const moment = 2 * time.Second
	var oldest *run
	for i := range p.running {
		if r := &p.running[i]; oldest == nil || r.Time.Before(oldest.Time) {
			oldest = r
		}
	}
	if oldest == nil || time.Since(oldest.Time) < moment {
		return ""
	}
	return "since " + term.Seconds(time.Since(oldest.Time)) + "  " + strings.TrimSpace(where(oldest.Entry)) + ": " + p.waits(oldest.Entry)
}

// shortened is a line that fits a width, however it is coloured.
func shortened(l string, w int) string {
	if w <= 1 || lipgloss.Width(l) <= w-1 {
		return l
	}
	if strings.Contains(l, "\x1b") {
		return l // of the table, whose words are short
	}
	rs := []rune(l)
	return string(rs[:min(len(rs), w-2)]) + "…"
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
