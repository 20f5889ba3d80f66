package look

import (
	"strings"
	"testing"
	"time"

	"verbund/internal/core/trust"
	"verbund/internal/kube"
)

// Every way in which a token lets nobody in has its words, and one that serves
// has none.
func TestRefusal(t *testing.T) {
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.Local)
	ts := []kube.Token{
		{ID: "serves", Left: 1, Ends: now.Add(time.Minute)},
		{ID: "usedup", Left: 0, Ends: now.Add(time.Minute)},
		{ID: "ended1", Left: 1, Ends: now},
		{ID: "others", Left: 1, Foreign: true},
	}
	for id, want := range map[string]string{"serves": "", "usedup": "used up", "ended1": "it ended at 12:00 on 2026-03-01", "others": "did not make it", "unheard": "not known, or was revoked"} {
		got := Refusal(ts, id, now)
		if (got == "") != (want == "") || !strings.Contains(got, want) || got != "" && !strings.Contains(got, "token "+id+" ") {
			t.Errorf("%s: %q, wanted %q", id, got, want)
		}
	}
}

// What became of a kubelet's request is told by the policy that decides about it.
func TestWhyUnsigned(t *testing.T) {
	q := func(name, by, state, why string) kube.Request {
		return kube.Request{Name: name, Signer: trust.KubeletServingSigner, By: "system:node:" + by, State: state, Why: why}
	}
	for _, x := range []struct {
		qs   []kube.Request
		want string
	}{
		{nil, "it has not asked for one"},
		{[]kube.Request{q("a", "gauges-2", "waits", "")}, "it has not asked for one"},
		{[]kube.Request{q("a", "gauges-1", "denied", "by hand"), q("b", "gauges-1", "approved", "")}, "its request b was approved, and the controller manager has yet to sign it"},
		{[]kube.Request{q("a", "gauges-1", "issued", "")}, "has yet to take the certificate up"},
		{[]kube.Request{q("a", "gauges-1", "denied", "by hand")}, "its request a was denied: by hand"},
		{[]kube.Request{q("a", "gauges-1", "waits", "")}, "its request a is left alone: "},
	} {
		if got := WhyUnsigned(x.qs, nil, "gauges-1"); !strings.Contains(got, x.want) {
			t.Errorf("%+v: %q, wanted %q", x.qs, got, x.want)
		}
	}
}
