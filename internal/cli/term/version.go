package term

import (
	"runtime/debug"
)

// BuildVersion is what the build recorded: a release's version, or the commit.
func BuildVersion() string {
	bi, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	v, rev, dirty := bi.Main.Version, "", ""
	for _, s := range bi.Settings {
		switch s.Key {
		case "vcs.revision":
			rev = s.Value[:min(12, len(s.Value))]
		case "vcs.modified":
			if s.Value == "true" {
				dirty = ", with changes"
			}
		}
	}
	if v == "" || v == "(devel)" {
		v = "development"
	}
	if rev != "" {
		v += " (" + rev + dirty + ")"
	}
	return v
}
