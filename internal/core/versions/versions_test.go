package versions

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

func TestShippedCatalogue(t *testing.T) {
	c := Shipped()
	patches := map[int]int{}
	last := ""
	for _, s := range c.Sets {
		if last != "" && Compare(s.Kubernetes, last) <= 0 {
			t.Errorf("%s does not come after %s", s.Kubernetes, last)
		}
		last = s.Kubernetes
		patches[s.Minor()]++
		if s.Image == "" {
			t.Errorf("%s has no machine image", s.Kubernetes)
		}
		for _, k := range append(s.Components(AllParts), s.Images()...) {
			if k.Version == "" || !strings.HasPrefix(c.Digest(k.Ref()), "sha256:") {
				t.Errorf("%s: %s is not pinned", s.Kubernetes, k.Ref())
			}
		}
		for _, k := range []Component{s.NetworkImage(), s.DNSImage()} {
			if !slices.Contains(c.Fitting(k.Name, s.Minor()), k.Version) {
				t.Errorf("%s: the catalogue does not say that %s fits", s.Kubernetes, k.Ref())
			}
		}
		if _, ok := c.Ends(s.Minor()); !ok {
			t.Errorf("%s: the catalogue does not say when its support ends", s.Kubernetes)
		}
	}
	for _, minor := range []int{35, 36, 37} {
		if patches[minor] != 2 {
			t.Errorf("minor %d has %d patch versions, wanted 2", minor, patches[minor])
		}
	}
}

func TestHop(t *testing.T) {
	c := Shipped()
	for _, x := range []struct{ from, to, want string }{
		{"v1.36.3", "v1.36.3", ""},
		{"v1.36.2", "v1.36.3", ""},
		{"v1.35.3", "v1.36.2", ""},
		{"v1.35.3", "v1.37.1", "declare v1.36.3 first"},
		{"v1.37.1", "v1.36.3", "a datastore that a newer API server wrote"},
		{"v1.37.2", "v1.37.1", "verbund rollout back"},
		{"v1.36.3", "v1.36.2", "is lower"},
		{"v1.36.3", "soon", "is lower"},
	} {
		err := c.Hop(x.from, x.to)
		switch {
		case x.want == "" && err != nil:
			t.Errorf("from %s to %s: %v", x.from, x.to, err)
		case x.want != "" && (err == nil || !strings.Contains(err.Error(), x.want)):
			t.Errorf("from %s to %s: %v, wanted %q", x.from, x.to, err, x.want)
		}
	}
}

func TestRoad(t *testing.T) {
	c := Shipped()
	// A catalogue of five minors, to see the workers jump.
	for _, v := range []string{"v1.38.1", "v1.39.1"} {
		s := c.Sets[len(c.Sets)-1]
		s.Kubernetes = v
		c = c.With([]Set{s}, nil)
	}
	for _, x := range []struct{ from, to, want string }{
		{"v1.36.2", "v1.36.3", "control v1.36.2→v1.36.3, workers v1.36.2→v1.36.3; drains 1, saved 0"},
		{"v1.35.3", "v1.37.1", "control v1.35.3→v1.36.3, control v1.36.3→v1.37.1, workers v1.35.3→v1.37.1; drains 1, saved 1"},
		{"v1.35.3", "v1.39.1", "control v1.35.3→v1.36.3, control v1.36.3→v1.37.2, control v1.37.2→v1.38.1, workers v1.35.3→v1.38.1, control v1.38.1→v1.39.1, workers v1.38.1→v1.39.1; drains 2, saved 2"},
		{"v1.37.2", "v1.37.2", "; drains 0, saved 0"},
		{"v1.37.2", "v1.36.2", "is lower than"},
		{"v1.35.3", "v1.37.9", "is not in the catalogue"},
		{"new", "v1.37.2", "is not a version"},
		{"v1.33.0", "v1.35.3", "leads through v1.34"},
	} {
		r, err := c.Road(x.from, x.to)
		got := fmt.Sprint(err)
		if err == nil {
			var legs []string
			for _, l := range r.Legs {
				legs = append(legs, l.Who+" "+l.From+"→"+l.To)
			}
			got = fmt.Sprintf("%s; drains %d, saved %d", strings.Join(legs, ", "), r.Drains, r.Saved)
		}
		if !strings.Contains(got, x.want) {
			t.Errorf("%s to %s: %s, wanted %s", x.from, x.to, got, x.want)
		}
	}
}

func TestPins(t *testing.T) {
	c := Shipped()
	set, _ := c.Set("v1.36.2")
	p, err := NewPins("tidewatch", []Set{set, set}, c)
	if err != nil || len(p.Sets) != 1 {
		t.Fatalf("%v, %v", p, err)
	}
	b, err := p.Encode()
	if err != nil {
		t.Fatal(err)
	}
	again, err := ReadPins(b, "tidewatch")
	if err != nil {
		t.Fatal(err)
	}
	if ch := again.Changes(c); len(ch) != 0 {
		t.Errorf("differences of fresh pins: %v", ch)
	}
	for _, behind := range []string{"---\n: : [\n", "---\nkubernetes: v1\n"} {
		if _, err := ReadPins(append(slices.Clone(b), behind...), "tidewatch"); err == nil {
			t.Errorf("pins with %q behind them were read", behind)
		}
	}
	for _, x := range []struct{ old, new, cluster, rule string }{
		{"", "", "lampwright", "pins-other-cluster"},
		{"dns: v1.14.2", "dns: v1.13.1", "tidewatch", "pins-edited"},
		{"verbund-pins/1", "verbund-pins/9", "tidewatch", "pins-damaged"},
		{"artefacts:", "artifacts:", "tidewatch", "pins-damaged"},
		{"cluster: tidewatch", "cluster: lampwright", "lampwright", "pins-edited"},
	} {
		_, err := ReadPins([]byte(strings.Replace(string(b), x.old, x.new, 1)), x.cluster)
		pt, ok := err.(*PinsTrouble)
		if !ok || pt.Rule != x.rule {
			t.Errorf("%s → %s for %s: %v, wanted %s", x.old, x.new, x.cluster, err, x.rule)
		}
	}
	// A newer catalogue that chose otherwise is shown, and changes nothing.
	other := set
	other.DNS = "v1.14.5"
	newer := c.With([]Set{other}, map[string]string{"kubelet:v1.36.2": "sha256:" + strings.Repeat("0", 64)})
	ch := again.Changes(newer)
	if len(ch) != 2 || ch[0].What != "dns" || ch[0].Now != "v1.14.5" || ch[1].What != "kubelet:v1.36.2" {
		t.Errorf("differences: %+v", ch)
	}
	if back, _ := newer.With(again.Sets, again.Artefacts).Set("v1.36.2"); back != set {
		t.Errorf("pinned set is %+v", back)
	}
}

func TestCatalogueFile(t *testing.T) {
	b, err := Shipped().Encode()
	if err != nil {
		t.Fatal(err)
	}
	c, err := Read(b)
	if err != nil || len(c.Sets) != len(Shipped().Sets) {
		t.Fatalf("own catalogue: %v", err)
	}
	for _, x := range []struct{ old, new, want string }{
		{"verbund-catalogue/1", "verbund-catalogue/2", "its schema is"},
		{"kubernetes: v1.35.4", "kubernetes: v1.35.3", "does not come after"},
		{"kubernetes: v1.35.3", "kubernetes: newest", "is not a version"},
		{"containerd: v2.2.1", "containerd: v9.9.9", "needs containerd:v9.9.9, which has no digest"},
		{"sets:", "setts:", "field setts not found"},
		{"ends: \"2027-02-28\"", "ends: soon", "ends on"},
		{"from: v1.35", "from: 35", "which are not minors"},
	} {
		text := strings.Replace(string(b), x.old, x.new, 1)
		if text == string(b) {
			t.Fatalf("%q is not in the file:\n%.600s", x.old, b)
		}
		if _, err := Read([]byte(text)); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v, wanted %q", x.new, err, x.want)
		}
	}
}

func FuzzFiles(f *testing.F) {
	set := Shipped().Sets[0]
	p, _ := NewPins("c", []Set{set}, Shipped())
	b, _ := p.Encode()
	f.Add(b)
	c, _ := Shipped().Encode()
	f.Add(c)
	f.Add([]byte("a: &a [*a, *a]\nsets: *a"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if p, err := ReadPins(data, "c"); err == nil && p.Cluster != "c" {
			t.Errorf("pins of %s were taken for those of c", p.Cluster)
		}
		if c, err := Read(data); err == nil && len(c.Sets) == 0 {
			t.Error("a catalogue without sets was taken")
		}
	})
}

func TestSettings(t *testing.T) {
	s := Shipped().Settings
	for _, x := range []struct {
		component, kind, name string
		value                 any
		want                  string
	}{
		{"kube-apiserver", "flag", "audit-log-maxage", "30", ""},
		{"kube-apiserver", "flag", "audit-log-maxage", "thirty", "it takes a whole number"},
		{"kubelet", "config", "maxPods", 200, ""},
		{"kubelet", "config", "maxPods", "many", "it takes a whole number"},
		{"kubelet", "config", "authentication.webhook.enabled", true, ""},
		{"kubelet", "config", "evictionHard", map[string]any{"memory.available": "5%"}, ""},
		{"kubelet", "config", "evictionHard", []any{}, "it takes keys with values"},
		{"kubelet", "config", "shutdownGracePeriod", "30s", ""},
		{"kubelet", "config", "shutdownGracePeriod", 30, "it takes a time span such as 30s"},
		{"etcd", "config", "quota-backend-bytes", 1 << 30, ""},
	} {
		st, ok := s[x.component][x.kind][x.name]
		if !ok {
			t.Errorf("%s does not know %s", x.component, x.name)
		}
		if got := st.Takes(x.value); got != x.want {
			t.Errorf("%s %v: %q, wanted %q", x.name, x.value, got, x.want)
		}
	}
	if n := s.Names("kubelet", "config", 35); slices.Contains(n, "memoryReservationPolicy") || !slices.Contains(s.Names("kubelet", "config", 36), "memoryReservationPolicy") {
		t.Error("memoryReservationPolicy came with v1.36")
	}
	older := ParseSettings("kubelet config maxPods int 35,36\nkubelet config port int 35,36,37\netcd config name text 35\n")
	if got := fmt.Sprint(older.Gone(35, 37)); got != "[kubelet maxPods]" {
		t.Errorf("gone from v1.35 to v1.37: %s", got)
	}
	for component, names := range Owned {
		for _, n := range names {
			if _, flag := s[component]["flag"][n]; flag {
				continue
			}
			if _, config := s[component]["config"][n]; !config {
				t.Errorf("%s: %s is owned and not in the table", component, n)
			}
		}
	}
}

// A catalogue says of each set what in it is real: all, some, or nothing.
func TestRealOf(t *testing.T) {
	c := Shipped()
	s, _ := c.Set("v1.37.2")
	if names, all := c.RealOf(s); len(names) > 0 || all {
		t.Errorf("what ships is made of stand-ins: %v %t", names, all)
	}
	c.Real = []string{"kube-scheduler:v1.37.2", "kube-scheduler:v1.36.3"}
	if names, all := c.RealOf(s); len(names) != 1 || names[0] != "kube-scheduler" || all {
		t.Errorf("one of it: %v %t", names, all)
	}
	for ref := range c.Digests {
		c.Real = append(c.Real, ref)
	}
	if names, all := c.RealOf(s); len(names) < 10 || !all {
		t.Errorf("all of it: %v %t", names, all)
	}
	b, err := c.Encode()
	if err != nil {
		t.Fatal(err)
	}
	if again, err := Read(b); err != nil || len(again.Real) != len(c.Real) {
		t.Errorf("written and read: %v", err)
	}
}

// A whole cluster goes back within a minor, and not where the datastore's members would have to.
func TestGoesBack(t *testing.T) {
	c := &Catalogue{Sets: []Set{{Kubernetes: "v1.36.3", Etcd: "v3.7.3"}, {Kubernetes: "v1.37.1", Etcd: "v3.7.3"}, {Kubernetes: "v1.37.2", Etcd: "v3.7.4"}, {Kubernetes: "v1.37.3", Etcd: "v3.8.0"}}}
	for _, x := range []struct {
		from, to string
		goes     bool
	}{{"v1.37.2", "v1.37.1", true}, {"v1.37.1", "v1.36.3", false}, {"v1.37.3", "v1.37.2", false}, {"v1.37.9", "v1.37.2", false}, {"v1.37.2", "v1.37.0", false}} {
		if got := c.GoesBack(x.from, x.to); got != x.goes {
			t.Errorf("from %s to %s: %t", x.from, x.to, got)
		}
	}
}
