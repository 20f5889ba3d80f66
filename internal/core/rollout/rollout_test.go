package rollout_test

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/rollout"
)

var update = flag.Bool("update", false, "write the scripts' answers anew")

// script is a group as the lines of a script describe it.
type script struct {
	t    *testing.T
	file string
	g    rollout.Group
	w    rollout.Window
}

func (s *script) number(text string) int {
	n, err := strconv.Atoi(text)
	if err != nil {
		s.t.Fatalf("%s: %v", s.file, err)
	}
	return n
}

func (s *script) span(text string) time.Duration {
	d, err := time.ParseDuration(text)
	if err != nil {
		s.t.Fatalf("%s: %v", s.file, err)
	}
	return d
}

// machine reads "machine NUMBER ZONE [missing] [must=WORD] [may=WORD] [fixed] [last]".
func (s *script) machine(w []string) {
	m := rollout.Machine{Name: s.g.Name + "-" + w[0], Number: s.number(w[0]), Zone: w[1], Exists: true}
	for _, x := range w[2:] {
		key, value, _ := strings.Cut(x, "=")
		switch key {
		case "missing":
			m.Exists = false
		case "must":
			m.Must = append(m.Must, value)
		case "may":
			m.May = append(m.May, value)
		case "fixed":
			m.Fixed = "it is adopted"
		case "last":
			m.Last = 1
		case "written":
			m.Written = true
		default:
			s.t.Fatalf("%s: a machine is not %q", s.file, x)
		}
	}
	at := slices.IndexFunc(s.g.Machines, func(o rollout.Machine) bool { return o.Number == m.Number })
	if at < 0 {
		s.g.Machines = append(s.g.Machines, m)
	} else {
		s.g.Machines[at] = m
	}
}

func (s *script) policy(w []string) {
	for _, x := range w {
		key, value, _ := strings.Cut(x, "=")
		p := &s.g.Policy
		switch key {
		case "way":
			p.Way = rollout.Way(value)
		case "batch":
			p.Batch = s.number(value)
		case "surge":
			p.Surge = s.number(value)
		case "spread":
			p.Spread = true
		case "trial":
			p.Trial = s.number(value)
		case "soak":
			p.Soak = s.span(value)
		case "hold":
			p.Hold = rollout.Hold(value)
		case "more":
			s.g.More = true
		default:
			s.t.Fatalf("%s: a policy has no %q", s.file, x)
		}
	}
}

// window reads "window FROM TO ZONE DAY…", and "at TIME" asks.
func (s *script) window(w []string) {
	zone, err := time.LoadLocation(w[2])
	if err != nil {
		s.t.Fatal(err)
	}
	clock := func(text string) time.Duration {
		h, m, _ := strings.Cut(text, ":")
		return time.Duration(s.number(h))*time.Hour + time.Duration(s.number(m))*time.Minute
	}
	s.w = rollout.Window{From: clock(w[0]), To: clock(w[1]), Zone: zone}
	for _, d := range w[3:] {
		for i := range s.w.Days {
			if strings.HasPrefix(strings.ToLower(time.Weekday(i).String()), d) {
				s.w.Days[i] = true
			}
		}
	}
}

func (s *script) do(w []string, out *strings.Builder) {
	switch w[0] {
	case "policy":
		s.policy(w[1:])
	case "machine":
		s.machine(w[1:])
	case "leaving":
		s.g.Leaving = nil
		for _, x := range w[1:] {
			s.g.Leaving = append(s.g.Leaving, s.number(x))
		}
	case "returns":
		s.g.Returns = map[int]int{}
		for i := 1; i+1 < len(w); i += 2 {
			s.g.Returns[s.number(w[i])] = s.number(w[i+1])
		}
	case "open":
		s.g.Open = &rollout.Open{}
		for _, x := range w[1:] {
			switch x {
			case "trial":
				s.g.Open.Trial = true
			case "soaked":
				s.g.Open.Soaked = true
			case "held":
				s.g.Open.Held = true
			default:
				s.g.Open.Machines = append(s.g.Open.Machines, x)
			}
		}
	case "waves":
		ws := s.g.Waves()
		for _, x := range ws {
			fmt.Fprintf(out, "> %d of %d, %s", x.Number, x.Of, x.Way)
			if x.Trial {
				out.WriteString(", trial")
			}
			fmt.Fprintf(out, ": %s", strings.Join(x.Machines, " "))
			if x.Zone != "" {
				fmt.Fprintf(out, " in %s", x.Zone)
			}
			fmt.Fprintf(out, " (%s)", x.Why)
			if x.Soak > 0 {
				fmt.Fprintf(out, ", then %s of watching", x.Soak)
			}
			if x.Hold {
				out.WriteString(", then a person's word")
			}
			out.WriteString("\n")
		}
		if len(ws) == 0 {
			out.WriteString("> none\n")
		}
	case "owed":
		soak, hold := s.g.Owed()
		fmt.Fprintf(out, "> %s of watching, a person's word %t\n", soak, hold)
	case "swaps":
		fmt.Fprintf(out, "> %v\n", s.g.Swaps())
	case "window":
		s.window(w[1:])
	case "at":
		now, err := time.ParseInLocation("2006-01-02T15:04", w[1], s.w.Zone)
		if err != nil {
			s.t.Fatal(err)
		}
		if open, next := s.w.Open(now); open {
			out.WriteString("> open\n")
		} else {
			fmt.Fprintf(out, "> closed until %s\n", next.Format("Mon 2006-01-02 15:04 MST"))
		}
	default:
		s.t.Fatalf("%s: %q is no word of a script", s.file, w[0])
	}
}

// Scripts of testdata are read line by line, one behaviour a file: "policy", "machine",
// "leaving", "returns" and "open" describe a group called gauges, "window" the hours; "waves", "owed",
// "swaps" and "at" ask. A line with > is the answer that is expected.
func TestScripts(t *testing.T) {
	scripts, err := filepath.Glob("testdata/*.txt")
	if err != nil || len(scripts) < 12 {
		t.Fatalf("%d scripts, %v", len(scripts), err)
	}
	for _, file := range scripts {
		b, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		s := &script{t: t, file: file, g: rollout.Group{Name: "gauges", Policy: rollout.Policy{Way: rollout.InPlace}}}
		var out strings.Builder
		for line := range strings.Lines(string(b)) {
			w := strings.Fields(line)
			if len(w) > 0 && w[0] == ">" {
				continue // said anew
			}
			out.WriteString(line)
			if len(w) > 0 && w[0] != "#" {
				s.do(w, &out)
			}
		}
		if *update {
			if err := os.WriteFile(file, []byte(out.String()), 0o644); err != nil {
				t.Fatal(err)
			}
		} else if out.String() != string(b) {
			t.Errorf("%s: it goes\n%s", file, out.String())
		}
	}
}

// However machines are scattered and whatever the policy: every machine that is due is in
// one wave, none that is not is in any, no wave is larger than it may be, and in the order
// of zones none spans two.
func TestWavesHold(t *testing.T) {
	zones := []string{"north", "south", "island"}
	for seed := range 3000 {
		n := seed
		pick := func(k int) int { n = (n*1103515245 + 12345) & 0x7fffffff; return (n >> 8) % k }
		g := rollout.Group{Name: "gauges", Policy: rollout.Policy{Way: []rollout.Way{rollout.InPlace, rollout.Replacement}[pick(2)], Batch: 1 + pick(4), Surge: 1 + pick(3), Spread: pick(2) == 0, Trial: pick(3), Soak: time.Minute, Hold: []rollout.Hold{rollout.Never, rollout.AfterTrial, rollout.EachBatch, rollout.EachPool}[pick(4)]}}
		due := map[string]bool{}
		for i := range 1 + pick(12) {
			m := rollout.Machine{Name: fmt.Sprintf("gauges-%d", i+1), Number: i + 1, Zone: zones[pick(3)], Exists: pick(8) > 0}
			switch pick(3) {
			case 0:
				m.Must = []string{"size large"}
			case 1:
				m.May = []string{"v1.37.2"}
			}
			due[m.Name] = m.Exists && m.Due()
			g.Machines = append(g.Machines, m)
		}
		seen := map[string]bool{}
		for _, w := range g.Waves() {
			most := g.Policy.Batch
			if w.Way == rollout.Replacement {
				most = g.Policy.Surge
			}
			if w.Trial {
				most = max(most, g.Policy.Trial)
			}
			if len(w.Machines) == 0 || len(w.Machines) > most || !g.Policy.Spread && w.Zone == "" {
				t.Fatalf("seed %d: a wave is %+v", seed, w)
			}
			for _, m := range w.Machines {
				if seen[m] || !due[m] {
					t.Fatalf("seed %d: %s is in a wave twice, or needs none", seed, m)
				}
				seen[m] = true
			}
		}
		for m, is := range due {
			if is && !seen[m] {
				t.Fatalf("seed %d: %s is in no wave", seed, m)
			}
		}
		numbers := map[int]bool{}
		for _, x := range g.Swaps() {
			if numbers[x] {
				t.Fatalf("seed %d: two places have number %d", seed, x)
			}
			numbers[x] = true
		}
	}
}
