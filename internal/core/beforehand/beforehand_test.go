package beforehand

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/declare"
	"verbund/internal/core/versions"
)

var now = time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)

// facts are those of an upgrade in which nothing is of concern, changed by a test.
func facts(change func(*Facts)) Facts {
	f := Facts{Now: now, Over: 2 * time.Hour, From: 36, To: 37, Drained: map[string]bool{"gauges-1": true, "gauges-2": true}, Accepted: map[string]string{},
		Asked:    []Asked{{"control-1", "resource.k8s.io", "v1beta1", "resourceclaims", 38}, {"control-1", "storage.k8s.io", "v1alpha1", "volumeattributesclasses", 35}},
		Written:  []Written{{versions.Ceasing{Group: "resource.k8s.io", Version: "v1beta1", Kind: "ResourceClaim", Removed: 38}, "tides/pump", "harbour", now}},
		Webhooks: []Webhook{{"checks", "tides.seamark.test", true, "tides/checks", nil}, {"outside", "tides.seamark.test", false, "", nil}, {"two", "tides.seamark.test", false, "tides/two", []string{"gauges-1", "gauges-2"}}, {"stays", "tides.seamark.test", false, "tides/stays", []string{"forecast-1"}}},
		Members:  []Member{{"control-1", nil, 800, 1000, 5000}, {"control-2", nil, 1 << 40, 0, 0}},
		Endings:  []Ending{{"cluster authority", now.Add(2*time.Hour + time.Second)}},
	}
	if change != nil {
		change(&f)
	}
	return f
}

func TestJudge(t *testing.T) {
	vac := versions.Ceasing{Group: "storage.k8s.io", Version: "v1beta1", Kind: "VolumeAttributesClass", Removed: 37, Instead: "storage.k8s.io/v1"}
	for _, x := range []struct {
		name   string
		change func(*Facts)
		want   []string // severity, rule and a part of the text, of each
	}{
		{"nothing", nil, nil},
		{"asked", func(f *Facts) {
			f.Asked = []Asked{{"control-2", "storage.k8s.io", "v1beta1", "volumeattributesclasses", 37}, {"control-1", "storage.k8s.io", "v1beta1", "volumeattributesclasses", 37}}
		}, []string{"error api-version-gone volumeattributesclasses of storage.k8s.io/v1beta1, which v1.37 does not serve any more (asked of control-1, control-2 since the API server there started); have whoever uses it use storage.k8s.io/v1"}},
		{"accepted", func(f *Facts) {
			f.Asked = []Asked{{"control-1", "networking.k8s.io", "v1beta1", "ipaddresses", 37}}
			f.Accepted[APIGone] = "a dashboard that goes next week"
		}, []string{"warning api-version-gone accepted: a dashboard that goes next week"}},
		{"written", func(f *Facts) {
			f.Written = []Written{{vac, "deep", "harbour", now.Add(-48 * time.Hour)}, {vac, "shallow", "harbour", now.Add(-72 * time.Hour)}}
		}, []string{"warning api-version-written harbour wrote VolumeAttributesClass deep and 1 more as storage.k8s.io/v1beta1, last on 2026-11-25, and v1.37 takes that no more"}},
		{"unserved", func(f *Facts) { f.Webhooks[0].Ignored = false }, []string{"error webhook-unserved nobody is ready behind its service tides/checks"}},
		{"alone", func(f *Facts) { f.Webhooks[2].On = []string{"gauges-2"} }, []string{"warning webhook-alone is answered from gauges-2 alone"}},
		{"alarm", func(f *Facts) { f.Members[1].Alarms = []string{"NOSPACE"} }, []string{"error datastore-alarm on control-2 has raised the alarm NOSPACE; make room"}},
		{"full", func(f *Facts) { f.Members[0].Size = 801 }, []string{"warning datastore-full control-1"}},
		{"behind", func(f *Facts) { f.Members[0].Behind = 5001 }, []string{"warning datastore-behind control-1 is 5001 entries behind"}},
		{"ends", func(f *Facts) { f.Endings[0].NotAfter = now.Add(2 * time.Hour) }, []string{"error certificate-ends cluster authority ends at 2026-11-27 11:00 UTC"}},
		{"ended", func(f *Facts) { f.Endings[0].NotAfter = now.Add(-time.Hour) }, []string{"error certificate-ends cluster authority has ended"}},
		{"pods without a place", func(f *Facts) { f.Meets = []string{"when gauges-1 is emptied, pod a finds no place"} }, []string{"warning pod-without-place when gauges-1 is emptied"}},
		{"many of them", func(f *Facts) { f.Meets = slices.Repeat([]string{"x"}, 9) }, append(slices.Repeat([]string{"warning pod-without-place x"}, 6), "warning pod-without-place drains meet 3 more")},
		{"in vain", func(f *Facts) { f.Vain = "emptying gauges-1 does not end" }, []string{"error drain-in-vain emptying gauges-1"}},
		{"in vain, and accepted", func(f *Facts) {
			f.Vain, f.Accepted = "emptying gauges-1 does not end", map[string]string{InVain: "it may"}
		}, []string{"warning drain-in-vain emptying gauges-1"}},
		{"spare", func(f *Facts) { f.Spare = "if forecast-1 failed" }, []string{"warning no-spare-room if forecast-1 failed"}},
		{"unlooked", func(f *Facts) { f.Unlooked = []string{"how the datastore is: no answer"} }, []string{"warning not-looked-at it was not looked at how the datastore is: no answer"}},
		{"errors first", func(f *Facts) { f.Members[0].Size, f.Members[0].Alarms = 999, []string{"CORRUPT"} }, []string{"error datastore-alarm CORRUPT", "warning datastore-full control-1"}},
	} {
		got := Judge(facts(x.change))
		if len(got) != len(x.want) {
			t.Errorf("%s: %v", x.name, got)
			continue
		}
		for i, c := range got {
			severity, rest, _ := strings.Cut(x.want[i], " ")
			rule, part, _ := strings.Cut(rest, " ")
			if string(c.Severity) != severity || c.Rule != rule || !strings.Contains(c.String(), part) {
				t.Errorf("%s: %s %v", x.name, c.Severity, c)
			}
			if c.Todo == "" {
				t.Errorf("%s: no way out of %v", x.name, c)
			}
		}
	}
}

// Every rule is in the table that check and the documentation show, with its severity; none of
// the others there shows on a living cluster.
func TestRulesAreListed(t *testing.T) {
	severities := map[string]declare.Severity{APIGone: declare.Error, APIWritten: declare.Warning, WebhookUnserved: declare.Error, WebhookAlone: declare.Warning, Alarm: declare.Error, Full: declare.Warning,
		Behind: declare.Warning, Ends: declare.Error, NoPlace: declare.Warning, InVain: declare.Error, NoSpare: declare.Warning, Unlooked: declare.Warning}
	for _, r := range declare.Rules {
		if s, ok := severities[r.ID]; r.Living != ok || ok && s != r.Severity {
			t.Errorf("%+v", r)
		}
		delete(severities, r.ID)
	}
	if len(severities) > 0 {
		t.Errorf("not listed: %v", severities)
	}
	// What ends or is full cannot be talked away.
	f := facts(func(f *Facts) {
		f.Members[0].Alarms, f.Endings[0].NotAfter = []string{"NOSPACE"}, now
		f.Accepted[Alarm], f.Accepted[Ends] = "no", "no"
	})
	if got := Judge(f); len(got) != 2 || slices.ContainsFunc(got, func(c Concern) bool { return c.Severity != declare.Error }) {
		t.Error(fmt.Sprint(got))
	}
}
