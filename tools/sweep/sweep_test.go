package main

import (
	"os"
	"slices"
	"strings"
	"testing"
)

// A process of this program may be a member of an etcd.
func TestMain(m *testing.M) {
	beMember()
	os.Exit(m.Run())
}

// A few rounds of the sweep, one for each who is killed; what seeds choose is the same every
// time, and everything is chosen by some.
func TestSweep(t *testing.T) {
	if os.Getenv("VERBUND_TESTS") != "long" {
		t.Skip(`it takes minutes, and is of another lane: VERBUND_TESTS="long" runs it`)
	}
	program, remove, err := build(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer remove()
	for _, r := range []*round{
		{seed: 1, does: "raise", kills: "tool", after: 61},
		{seed: 2, does: "restore", kills: "zone", after: 12},
		{seed: 3, does: "upgrade", kills: "machine", after: 80},
		{seed: 4, does: "grow", kills: "site", after: 9},
		{seed: 5, does: "replace-authority", kills: "lead", after: 30},
		{seed: 6, does: "upgrade", kills: "member", after: 50, share: true},
		{seed: 7, does: "grow", kills: "way", after: 12, share: true},
	} {
		r.program = program
		if err := r.run(t.Context()); err != nil {
			t.Errorf("seed %d: %v", r.seed, err)
		}
		if !r.killed {
			t.Errorf("seed %d: nothing was killed in %d entries", r.seed, r.said)
		}
	}
}

func TestChosen(t *testing.T) {
	seen := map[string]bool{}
	for seed := range uint64(800) {
		a, b := chosen("", seed, "", "", false), chosen("", seed, "", "", false)
		if a.does != b.does || a.kills != b.kills || a.after != b.after {
			t.Errorf("seed %d chooses %+v, and %+v", seed, a, b)
		}
		d := deeds[slices.Index(names(), a.does)]
		if a.after < 1 || a.after > d.entries {
			t.Errorf("seed %d: after %d of %d entries", seed, a.after, d.entries)
		}
		seen[a.does+" "+a.kills] = true
	}
	if len(seen) != len(deeds)*len(victims) {
		t.Errorf("%d of %d are chosen", len(seen), len(deeds)*len(victims))
	}
	if r := chosen("", 5, "renew", "zone", false); r.does != "renew" || r.kills != "zone" {
		t.Errorf("%+v", r)
	}
	err := sweep(t.Context(), 1, 1, 1, "renw", "", false, false)
	if err == nil || !strings.Contains(err.Error(), "choose -does among") {
		t.Error(err)
	}
}
