package host

import (
	"fmt"
	"maps"
	"slices"

	"github.com/spf13/pflag"
	"sigs.k8s.io/yaml"

	"verbund/internal/core/versions"
)

// KnownFlags lets a stand-in take every flag that the component of its version
// takes, beside those that it acts on: a flag of another version is an error,
// as in life.
func (e *Env) KnownFlags(fs *pflag.FlagSet) {
	for _, n := range versions.Shipped().Settings.Names(e.Name, "flag", versions.Minor(e.Version)) {
		if fs.Lookup(n) == nil {
			fs.String(n, "", "")
		}
	}
}

// StrictConfig reads a configuration file of the machine into the published
// type, and refuses keys that this version of the component does not know.
func (e *Env) StrictConfig(file string, out any) error {
	b, err := e.Host.ReadFile(file)
	if err != nil {
		return err
	}
	if err := yaml.UnmarshalStrict(b, out); err != nil {
		return &ExitError{Code: 2, Err: fmt.Errorf("%s: %w", file, err)}
	}
	var keys map[string]any
	if err := yaml.Unmarshal(b, &keys); err != nil {
		return &ExitError{Code: 2, Err: fmt.Errorf("%s: %w", file, err)}
	}
	delete(keys, "kind")
	delete(keys, "apiVersion")
	minor := versions.Minor(e.Version)
	if k := unknown(versions.Shipped().Settings[e.Name]["config"], minor, "", keys); k != "" {
		return &ExitError{Code: 2, Err: fmt.Errorf("%s: %s of v1.%d does not know the key %s", file, e.Name, minor, k)}
	}
	return nil
}

// unknown is the first key that the table does not have for a minor.
func unknown(table map[string]versions.Setting, minor int, prefix string, keys map[string]any) string {
	for _, k := range slices.Sorted(maps.Keys(keys)) {
		s, ok := table[prefix+k]
		if !ok || !slices.Contains(s.Minors, minor) {
			return prefix + k
		}
		if sub, nested := keys[k].(map[string]any); nested && s.Type == "object" {
			if u := unknown(table, minor, prefix+k+".", sub); u != "" {
				return u
			}
		}
	}
	return ""
}
