package declare

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"verbund/internal/core/versions"
)

// told says how a component is told things: by flags, by configuration, or both.
var told = map[string][]string{
	"kube-apiserver": {"flag"}, "kube-controller-manager": {"flag"}, "kube-scheduler": {"flag", "config"},
	"kubelet": {"config"}, "kube-proxy": {"config"}, "etcd": {"config"},
}

// components checks settings against the table of what each minor knows. What
// runs on nodes has to be known to every version that a node runs.
func (k *checker) components() {
	minors := []int{k.minor()}
	for _, n := range slices.Sorted(maps.Keys(k.c.Components)) {
		c, at := k.c.Components[n], "components."+n
		kinds, ok := told[n]
		if !ok {
			k.add(at, "unknown-component", fmt.Sprintf("component %q is not known", n), oneOf(n, slices.Sorted(maps.Keys(told))))
			continue
		}
		mine := minors
		if n == "kubelet" || n == "kube-proxy" {
			for _, p := range k.c.Pools {
				if _, ok := k.cat.Set(p.Kubernetes); ok && !slices.Contains(mine, versions.Minor(p.Kubernetes)) {
					mine = append(slices.Clone(mine), versions.Minor(p.Kubernetes))
				}
			}
		}
		if len(c.Flags) > 0 && !slices.Contains(kinds, "flag") {
			k.add(at+".flags", "setting-kind", fmt.Sprintf("Verbund tells %s things by its configuration file, not by flags", n), "put them under config")
		} else {
			for _, f := range slices.Sorted(maps.Keys(c.Flags)) {
				k.setting(n, "flag", f, at+".flags."+f, c.Flags[f], mine)
			}
		}
		if len(c.Config) > 0 && !slices.Contains(kinds, "config") {
			k.add(at+".config", "setting-kind", fmt.Sprintf("%s has no configuration file", n), "put them under flags")
		} else {
			k.config(n, "", at+".config", c.Config, mine)
		}
	}
}

// config walks nested configuration down to what the table knows.
func (k *checker) config(component, prefix, at string, values map[string]any, minors []int) {
	for _, key := range slices.Sorted(maps.Keys(values)) {
		name := prefix + key
		sub, nested := values[key].(map[string]any)
		if s := k.cat.Settings[component]["config"][name]; nested && s.Type == "object" {
			k.config(component, name+".", join(at, key), sub, minors)
			continue
		}
		k.setting(component, "config", name, join(at, key), values[key], minors)
	}
}

func (k *checker) setting(component, kind, name, at string, value any, minors []int) {
	if minors[0] == 0 {
		return // the version is not known, which is a finding of its own
	}
	word := map[string]string{"flag": "flag --" + name, "config": "key " + name}[kind]
	if versions.IsOwned(component, name) {
		k.add(at, "setting-owned", fmt.Sprintf("%s of %s is derived from the declaration", word, component), "leave it out; the key of the declaration that it follows from is in docs/declaration.md")
		return
	}
	s, known := k.cat.Settings[component][kind][name]
	for _, m := range minors {
		if !known || !slices.Contains(s.Minors, m) {
			var todo string
			if known {
				var vs []string
				for _, x := range s.Minors {
					vs = append(vs, fmt.Sprintf("v1.%d", x))
				}
				todo = "these know it: " + joinWords(vs)
			} else if near := Nearest(last(name), lasts(k.cat.Settings.Names(component, kind, m))); near != "" {
				todo = "did you mean " + near + "?"
			} else {
				todo = "look it up in the component's own reference; or declare an exception with its reason"
			}
			k.add(at, "setting-unknown", fmt.Sprintf("%s of v1.%d does not know %s", component, m, word), todo)
			return
		}
		if next := m + 1; len(k.cat.Settings.Names(component, kind, next)) > 0 && !slices.Contains(s.Minors, next) {
			k.add(at, "setting-leaves", fmt.Sprintf("%s of v1.%d does not know %s any more", component, next, word), "find what takes its place before upgrading")
		}
	}
	if why := s.Takes(value); why != "" {
		k.add(at, "setting-value", fmt.Sprintf("%s of %s cannot be %v", word, component, value), why)
	}
}

func last(name string) string { return name[strings.LastIndex(name, ".")+1:] }

func lasts(names []string) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = last(n)
	}
	return out
}
