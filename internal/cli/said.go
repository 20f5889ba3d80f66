package cli

import (
	"time"

	enginelook "verbund/internal/engine/look"
	"verbund/internal/site"

	corev1 "k8s.io/api/core/v1"

	"verbund/internal/core/declare"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/kube"
	"verbund/internal/store"
)

// What commands say with --output json. docs/json.md is made from these types, and
// a test holds commands, types and text together.

type versionSaid struct {
	Version    string   `json:"version"`
	Kubernetes []string `json:"kubernetes"` // versions of the shipped catalogue
}

type storeSaid struct {
	Store      string `json:"store"` // folder
	Protection string `json:"protection"`
	Recipient  string `json:"recipient"`
	KeyFile    string `json:"keyFile"`
	Opens      bool   `json:"opens"`
}

type storeChecked struct {
	Store  string   `json:"store"`
	Damage []string `json:"damage"` // what is not as it was written
}

type replacedSaid struct {
	Replaced string              `json:"replaced"`
	Proof    []enginelook.Proved `json:"proof"`
	Holds    bool                `json:"holds"` // all of it
}

type tokenSaid struct {
	Token   string    `json:"token"` // it is shown this once
	ID      string    `json:"id"`
	Pool    string    `json:"pool"`
	Machine string    `json:"machine"`
	Uses    int       `json:"uses"`
	Ends    time.Time `json:"ends"`
}

type versionsSaid struct {
	Sets   []versions.Set     `json:"sets"`
	Minors []versions.Support `json:"minors"`
	Fits   []versions.Fit     `json:"fits"`
}

type wroteSaid struct {
	Files []string `json:"files"`
}

type renderSaid struct {
	Cluster string `json:"cluster"`
	Folder  string `json:"folder"`
	Files   int    `json:"files"`
}

type collectSaid struct {
	Archive string   `json:"archive"`
	Files   []string `json:"files"`
	Removed int      `json:"removed"` // secrets that were taken out
	Bytes   int      `json:"bytes"`
}

type mergedSaid struct {
	Merged string `json:"merged"` // YAML, with a comment at each value that says where it came from
}

type machineSaid struct {
	site.Machine
	Reached  bool              `json:"reached"`
	Runs     string            `json:"runs"` // version of what it is there for
	Slot     string            `json:"slot"` // in use
	Services map[string]string `json:"services"`
}

type runSaid struct {
	Run     string    `json:"run"`
	Command string    `json:"command"`
	Began   time.Time `json:"began"`
	Seconds float64   `json:"seconds"`
	Steps   int       `json:"steps"` // that were done
	Outcome string    `json:"outcome"`
	Error   string    `json:"error,omitempty"` // the step that failed
}

type accessSaid struct {
	store.Given
	Works bool `json:"works"`
}

// said is what each command prints; several lines of a command are its options.
var said = []struct {
	command string
	value   any
}{
	{"draft", wroteSaid{}}, {"check", []declare.Finding{}}, {"check --rules", []declare.Rule{}}, {"check --merged", mergedSaid{}},
	{"versions", versionsSaid{}}, {"versions --refresh", []versions.PinChange{}}, {"render", renderSaid{}},
	{"plan", planned{}}, {"converge, and every command that changes machines: a line for each entry", store.Entry{}},
	{"status", enginelook.Health{}}, {"status --all", []glance{}}, {"nodes", []corev1.Node{}}, {"machines", []machineSaid{}}, {"inspect", []inspected{}}, {"logs", []logLine{}},
	{"history", []runSaid{}}, {"history RUN", []store.Entry{}}, {"survey", []enginelook.Answer{}}, {"collect", collectSaid{}},
	{"access --list", []accessSaid{}}, {"hosts", []hostLine{}},
	{"trust list", enginelook.TrustReport{}}, {"trust show", trust.Entry{}}, {"trust replace, at its end", replacedSaid{}},
	{"token issue", tokenSaid{}}, {"token list", []kube.Token{}}, {"requests list", []judgedRequest{}},
	{"site mirror", []site.Mirrored{}}, {"site images", []site.Composed{}},
	{"store show", storeSaid{}}, {"store show --check", storeChecked{}}, {"version", versionSaid{}},
}
