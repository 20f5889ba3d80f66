package memory

import (
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/rollout"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
)

// full remembers something of everything.
func full() *State {
	at := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	s := New()
	s.Facts = &topology.Facts{Endpoint: "api.tidewatch.test", PerNode: 128, Founded: at}
	s.Founders, s.Clearing = []string{"tidewatch-control-1"}, true
	s.Machines["tidewatch-control-1"] = Machine{Address: netip.MustParseAddr("127.81.7.10"), Hardware: "02:00", Fingerprint: "SHA256:made-up"}
	s.Members["tidewatch-control-1"] = []string{"tidewatch-control-1"}
	s.BornAmong(map[string]netip.Addr{"tidewatch-control-1": netip.MustParseAddr("127.81.7.10")}, "tidewatch-control-1")
	s.Rest("tidewatch-gauges-1", true)
	s.Counts["gauges"], s.Numbers["gauges"] = 4, []int{4, 2}
	s.Ask("tidewatch-gauges-1/proxy")
	s.Exchanges["tidewatch-gauges-2"] = "02:01"
	s.Kubeconfigs["/home/ebb/.kube/config"] = at
	s.Give(Given{Name: "ebb", Groups: []string{"people"}, Serial: "7", Until: at})
	s.Replacements[string(trust.Cluster)] = trust.Replacement{Pass: trust.Both, Began: at}
	s.Waves["gauges"] = rollout.Open{Number: 2, Before: "v1.36.3", Machines: []string{"tidewatch-gauges-1"}, Trial: true}
	s.Spared["tidewatch-gauges-3"] = Spared{Since: at, Group: "gauges", Why: "disk"}
	s.Before["forecast"] = "v1.36.3"
	s.Held = &Held{Since: at, By: ByDeclaration, Group: "gauges", Why: "declared"}
	s.Restoring = &Restoring{ID: "r1", Backup: "x.backup.age", Since: at, Kubernetes: "v1.37.2"}
	s.Backups["x.backup.age"] = BackupNote{Verified: at, Copies: []Copy{{To: "oci://registry.test/x", Digest: "sha256:1", At: at}}}
	return s
}

// All of it comes back as it was, and nothing of it can be left out: every field is full, and
// has entries of its own.
func TestEntries(t *testing.T) {
	s := full()
	v := reflect.ValueOf(*s)
	for i := range v.NumField() {
		if v.Field(i).IsZero() || v.Field(i).Kind() == reflect.Map && v.Field(i).Len() == 0 {
			t.Errorf("the test remembers nothing as %s", v.Type().Field(i).Name)
		}
	}
	es, err := s.Entries()
	if err != nil {
		t.Fatal(err)
	}
	if len(es) != v.NumField() {
		t.Errorf("%d entries of %d fields: %v", len(es), v.NumField(), slices.Sorted(maps.Keys(es)))
	}
	again, err := Of(es)
	if err != nil || !reflect.DeepEqual(again, s) {
		t.Errorf("%v: it comes back as\n%+v\nand was\n%+v", err, again, s)
	}
	for key := range es {
		table, _, _ := strings.Cut(key, "/")
		if Tables()[table] == "" {
			t.Errorf("%s lies in a table that nobody knows", key)
		}
	}
	// What is the same is written the same: only what has changed is another entry.
	again.Counts["gauges"]++
	now, err := again.Entries()
	if err != nil {
		t.Fatal(err)
	}
	for key := range now {
		if changed := string(now[key]) != string(es[key]); changed != (key == "counts/gauges") {
			t.Errorf("%s changed: %v", key, changed)
		}
	}
	if es, err := New().Entries(); err != nil || len(es) > 0 {
		t.Errorf("nothing is %v, %v", es, err)
	}
}

// What is no entry is named, and nothing is made of the rest.
func TestUnreadable(t *testing.T) {
	for key, v := range map[string]string{"machines/one": `{"address":7}`, "cluster/facts": `[]`, "counts/gauges": `"many"`, "cluster/weather": `{}`, "tides/one": `{}`, "": `{}`} {
		s, err := Of(Entries{key: []byte(v), "counts/forecast": []byte("1")})
		var u *Unreadable
		if !errors.As(err, &u) || u.Key != key {
			t.Errorf("%s: %v, %v", key, s, err)
		}
	}
}

// disturb changes in place all that a value leads to.
func disturb(v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			v.Elem().Set(reflect.Zero(v.Type().Elem()))
		}
	case reflect.Slice:
		for i := range v.Len() {
			disturb(v.Index(i))
			v.Index(i).Set(reflect.Zero(v.Type().Elem()))
		}
	case reflect.Map:
		for _, k := range v.MapKeys() {
			disturb(v.MapIndex(k))
			v.SetMapIndex(k, reflect.Zero(v.Type().Elem()))
		}
		v.Clear()
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				disturb(v.Field(i))
			}
		}
	}
}

// Whatever is done with a clone, nothing of it shows where it came from.
func TestClone(t *testing.T) {
	s := full()
	c := s.Clone()
	if !reflect.DeepEqual(c, s) {
		t.Fatalf("it is\n%+v\nand was\n%+v", c, s)
	}
	disturb(reflect.ValueOf(c).Elem())
	if !reflect.DeepEqual(s, full()) {
		t.Errorf("a clone was disturbed, and it is\n%+v", s)
	}
	if n := New().Clone(); !reflect.DeepEqual(n, New()) {
		t.Errorf("nothing is cloned as %+v", n)
	}
}

// What has changed is enough to make one state of another.
func TestChanges(t *testing.T) {
	entries := func(s *State) Entries {
		t.Helper()
		es, err := s.Entries()
		if err != nil {
			t.Fatal(err)
		}
		return es
	}
	for what, f := range map[string]func(*State){
		"nothing": func(*State) {}, "one": func(s *State) { s.Counts["gauges"] = 7 }, "a new one": func(s *State) { s.Counts["forecast"] = 7 }, "one less": func(s *State) { delete(s.Machines, "tidewatch-control-1") },
		"an end": (*State).Resume, "all of it": func(s *State) { *s = *New() }, "in place": func(s *State) { s.Numbers["gauges"][0] = 9 }, "a life": (*State).Clears,
	} {
		was, is := full(), full()
		f(is)
		changes := entries(is).Changes(entries(was))
		if (what == "nothing") != (len(changes) == 0) {
			t.Errorf("%s: changed are %v", what, changes)
		}
		if err := was.Take(changes); err != nil || !reflect.DeepEqual(entries(was), entries(is)) {
			t.Errorf("%s: %v: it is\n%+v\nwanted\n%+v", what, err, was, is)
		}
	}
}

// The datastore is founded once, by all at once; who joins or leaves is no founder any more.
func TestFounding(t *testing.T) {
	s := New()
	s.Members["c"] = []string{"c"}
	if err := s.Found([]string{"a", "b"}); err != nil || len(s.Members) != 2 || len(s.Members["a"]) != 2 {
		t.Fatalf("%v, %v", s.Members, err)
	}
	founders := s.Founders
	s.Joins("b", []string{"a", "b"})
	if !slices.Equal(s.Founders, []string{"a"}) || !slices.Equal(founders, []string{"a", "b"}) || s.Members["b"] == nil {
		t.Errorf("founders %v, before %v, members %v", s.Founders, founders, s.Members)
	}
	s.BornAmong(map[string]netip.Addr{"a": netip.MustParseAddr("127.81.7.10")}, "a")
	s.Leaves("a")
	if len(s.Founders) > 0 || s.Members["a"] != nil || s.Peers["a"] != nil {
		t.Errorf("founders %v, members %v, peers %v", s.Founders, s.Members, s.Peers)
	}
	s.Founded(topology.Facts{Founded: time.Now()})
	if err := s.Found([]string{"x"}); err == nil || s.Members["x"] != nil || len(s.Founders) > 0 {
		t.Errorf("it was founded again: %v, %v, %v", s.Members, s.Founders, err)
	}
}

// Of a machine that is forgotten nothing is left, and of others everything.
func TestForget(t *testing.T) {
	s := New()
	for _, m := range []string{"gauges-1", "gauges-11"} {
		s.Machines[m], s.Members[m], s.Resting[m] = Machine{Hardware: "02:00"}, []string{m}, true
		s.BornAmong(nil, m)
		s.Ask(m+"/proxy", trust.WasID(m+"/kubelet-client"))
	}
	s.Forget("gauges-1")
	want := New()
	want.Machines["gauges-11"], want.Members["gauges-11"], want.Resting["gauges-11"] = Machine{Hardware: "02:00"}, []string{"gauges-11"}, true
	want.BornAmong(nil, "gauges-11")
	want.Ask("gauges-11/proxy", "was/gauges-11/kubelet-client")
	if !reflect.DeepEqual(s, want) {
		t.Errorf("left is %+v", s)
	}
}

// A cleared cluster keeps what proves it the same one, and nothing of its life.
func TestClears(t *testing.T) {
	s, was := full(), full()
	s.Clears()
	want := full()
	want.Facts, want.Founders, want.Held, want.Restoring = nil, nil, nil, nil
	for _, m := range []any{want.Members, want.Peers, want.Resting, want.Waves, want.Spared, want.Before} {
		reflect.ValueOf(m).Clear()
	}
	if want.Clearing = true; !reflect.DeepEqual(s, want) {
		t.Errorf("left is\n%+v\nwanted\n%+v", s, want)
	}
	s.Founded(*was.Facts)
	if s.Clearing || s.Facts == nil {
		t.Errorf("founded again, it is %+v", s)
	}
}

// In a restoration all members are known to each other, and none founds; what was underway in
// the life before is over. It ends when the datastore was founded, and all is done after it.
func TestRestores(t *testing.T) {
	s := full()
	s.Restoring = nil
	if err := s.Restored(topology.Facts{}); err == nil {
		t.Error("what is not underway ended")
	}
	r := Restoring{ID: "r2", Backup: "y.backup.age"}
	s.Restores(r, []string{"a", "b", "c"})
	if *s.Restoring != r || len(s.Founders)+len(s.Waves)+len(s.Spared)+len(s.Resting) > 0 || s.Held != nil || len(s.Members) != 3 || len(s.Members["c"]) != 3 {
		t.Errorf("it is %+v", s)
	}
	if s.Before["forecast"] == "" || len(s.Backups) != 1 || len(s.Machines) != 1 {
		t.Errorf("too much is forgotten: %+v", s)
	}
	s.Exchanges = map[string]string{}
	if s.Underway() {
		t.Error("a command that is over would end it before the datastore is founded")
	}
	if s.Over(); s.Restoring == nil {
		t.Fatal("it is over before the datastore is founded")
	}
	at := time.Now()
	if err := s.Restored(topology.Facts{Founded: at}); err != nil || !s.Restoring.Founded || !s.Facts.Founded.Equal(at) || s.Clearing || r.Founded {
		t.Errorf("%+v, %+v, %v", s.Restoring, s.Facts, err)
	}
	if !s.Underway() {
		t.Error("it is not underway")
	}
	if s.Over(); s.Restoring != nil {
		t.Errorf("over: %+v", s.Restoring)
	}
}

// A hold is over when a person says so: then the wave for which it was declared does not hold
// again. A person's hold was for no wave.
func TestResume(t *testing.T) {
	for _, x := range []struct {
		by, group string
		held      bool
	}{{ByDeclaration, "gauges", true}, {ByDeclaration, "forecast", false}, {ByPerson, "gauges", false}} {
		s := full()
		s.Held = &Held{By: x.by, Group: x.group}
		if s.Resume(); s.Held != nil || s.Waves["gauges"].Held != x.held || len(s.Waves) != 1 || s.Waves["gauges"].Number != 2 {
			t.Errorf("%+v: held %v, waves %+v", x, s.Held, s.Waves)
		}
		if s.Resume(); s.Held != nil {
			t.Error("held by nobody, it is held")
		}
	}
}

// A roll-out that is over leaves what its groups ran before, and a person's hold; of one group,
// the others stay.
func TestRolledOut(t *testing.T) {
	s := full()
	s.Waves["forecast"], s.Waves["lamps"] = rollout.Open{Number: 1, Before: "v1.36.9"}, rollout.Open{}
	if ran := s.RanBefore(); !maps.Equal(ran, map[string]string{"gauges": "v1.36.3", "forecast": "v1.36.9"}) || s.Before["forecast"] != "v1.36.3" {
		t.Errorf("while it is underway, before was %v", ran)
	}
	s.RolledOut("forecast", "lamps")
	if len(s.Waves) != 1 || len(s.Spared) != 1 || !maps.Equal(s.Before, map[string]string{"forecast": "v1.36.9"}) {
		t.Errorf("of one: waves %v, spared %v, before %v", s.Waves, s.Spared, s.Before)
	}
	s.RolledOut()
	if len(s.Waves)+len(s.Spared) > 0 || s.Held == nil || !maps.Equal(s.RanBefore(), map[string]string{"forecast": "v1.36.9", "gauges": "v1.36.3"}) {
		t.Errorf("of all: %+v", s)
	}
}

// What is not there is remembered as nothing: no machine gives way that has no address, none rests
// that serves, and nothing is asked for that was renewed.
func TestNothingLeft(t *testing.T) {
	s := New()
	s.Exchange("a", "02:00")
	s.Exchange("b", "")
	s.Rest("a", true)
	s.Ask("a/proxy", "b/proxy")
	if s.Exchanges["a"] != "02:00" || len(s.Exchanges) != 1 || !s.Resting["a"] || len(s.Asked) != 2 {
		t.Errorf("remembered is %+v", s)
	}
	s.Exchange("a", "")
	s.Rest("a", false)
	s.Renewed("a/proxy", "b/proxy")
	if es, err := s.Entries(); err != nil || len(es) > 0 {
		t.Errorf("left is %v, %v", es, err)
	}
}

// What a command ends after which nothing is left to do is any of these.
func TestUnderway(t *testing.T) {
	for what, f := range map[string]func(*State){
		"a wave": func(s *State) { s.Waves["gauges"] = rollout.Open{} }, "a machine that failed": func(s *State) { s.Spared["x"] = Spared{} },
		"a machine that gives way": func(s *State) { s.Exchanges["x"] = "02:00" }, "a restoration": func(s *State) { s.Restoring = &Restoring{Founded: true} },
	} {
		s := New()
		if s.Underway() {
			t.Error("nothing is underway")
		}
		f(s)
		if !s.Underway() {
			t.Errorf("%s is not underway", what)
		}
		if s.Over(); s.Underway() {
			t.Errorf("%s is not over", what)
		}
	}
}

// What does not fit together is told.
func TestAgree(t *testing.T) {
	for _, x := range []struct {
		what string
		do   func(*State)
		want string
	}{
		{"nothing", func(*State) {}, ""},
		{"everything", func(s *State) { *s = *full() }, ""},
		{"a member", func(s *State) { s.Joins("a", []string{"a", "b"}) }, ""},
		{"a member without itself", func(s *State) { s.Joins("a", []string{"b"}) }, "the member of a was born into [b], without itself"},
		{"a member twice", func(s *State) { s.Joins("a", []string{"a", "a"}) }, "with one of them twice"},
		{"a pass", func(s *State) { s.Replacements[string(trust.Cluster)] = trust.Replacement{Pass: trust.Drop} }, ""},
		{"no pass", func(s *State) { s.Replacements[string(trust.Cluster)] = trust.Replacement{} }, "is in pass 0"},
		{"a pass that there is not", func(s *State) { s.Replacements[string(trust.Cluster)] = trust.Replacement{Pass: trust.Drop + 1} }, "is in pass 4"},
		{"of what cannot be replaced", func(s *State) { s.Replacements["weather"] = trust.Replacement{Pass: trust.Drop} }, "the replacement of weather"},
		{"founded", func(s *State) { s.Founded(topology.Facts{Founded: time.Now()}) }, ""},
		{"founded at no time", func(s *State) { s.Founded(topology.Facts{}) }, "not at any time"},
		{"numbers", func(s *State) { s.Numbers["gauges"] = []int{3, 1} }, ""},
		{"a number twice", func(s *State) { s.Numbers["gauges"] = []int{3, 3} }, "the machines of gauges have the numbers [3 3]"},
		{"no number", func(s *State) { s.Numbers["gauges"] = []int{1, 0} }, "which one is there twice or is none"},
	} {
		s := New()
		x.do(s)
		found := s.Agree()
		if len(found) != min(len(x.want), 1) || len(found) == 1 && !strings.Contains(found[0].Error(), x.want) {
			t.Errorf("%s: %v", x.what, found)
		}
	}
}

// From what is remembered of a cluster to its entries, and back.
func Example() {
	s := New()
	if err := s.Found([]string{"tidewatch-control-1"}); err != nil {
		fmt.Println(err)
		return
	}
	es, err := s.Entries()
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, key := range slices.Sorted(maps.Keys(es)) {
		fmt.Printf("%s = %s\n", key, es[key])
	}
	again, err := Of(es)
	fmt.Println(again.Founders, err)
	// Output:
	// cluster/founders = ["tidewatch-control-1"]
	// members/tidewatch-control-1 = ["tidewatch-control-1"]
	// [tidewatch-control-1] <nil>
}
