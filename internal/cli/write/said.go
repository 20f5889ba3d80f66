package write

import (
	"verbund/internal/core/versions"
)

type VersionsSaid struct {
	Sets   []versions.Set     `json:"sets"`
	Minors []versions.Support `json:"minors"`
	Fits   []versions.Fit     `json:"fits"`
}

type WroteSaid struct {
	Files []string `json:"files"`
}

type RenderSaid struct {
	Cluster string `json:"cluster"`
	Folder  string `json:"folder"`
	Files   int    `json:"files"`
}

type MergedSaid struct {
	Merged string `json:"merged"` // YAML, with a comment at each value that says where it came from
}
