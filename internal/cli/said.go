package cli

import (
	corev1 "k8s.io/api/core/v1"

	"verbund/internal/cli/act"
	"verbund/internal/cli/desk"
	"verbund/internal/cli/enter"
	"verbund/internal/cli/keep"
	"verbund/internal/cli/look"
	"verbund/internal/cli/practise"
	"verbund/internal/cli/rollout"
	"verbund/internal/cli/term"
	"verbund/internal/cli/vouch"
	"verbund/internal/cli/write"
	"verbund/internal/core/declare"
	"verbund/internal/core/drill"
	"verbund/internal/core/memory"
	"verbund/internal/core/proof"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	enginelook "verbund/internal/engine/look"
	"verbund/internal/kube"
	"verbund/internal/site"
	"verbund/internal/store"
)

// What commands say with --output json. docs/json.md is made from these types, and
// a test holds commands, types and text together.

type versionSaid struct {
	Version    string   `json:"version"`
	Kubernetes []string `json:"kubernetes"` // versions of the shipped catalogue
}

// said is what each command prints; several lines of a command are its options.
var said = []struct {
	command string
	value   any
}{
	{"draft", write.WroteSaid{}}, {"check", []declare.Finding{}}, {"check --rules", []declare.Rule{}}, {"check --merged", write.MergedSaid{}},
	{"versions", write.VersionsSaid{}}, {"versions --refresh", []versions.PinChange{}}, {"render", write.RenderSaid{}},
	{"plan", desk.Planned{}}, {"plan show", act.SavedSaid{}}, {"converge, and every command that changes machines: a line for each entry", store.Entry{}},
	{"rehearse", practise.RehearseSaid{}}, {"rollout", enginelook.Rollout{}}, {"rollout hold", rollout.HoldSaid{}},
	{"status", enginelook.Health{}}, {"status --all", []look.Glance{}}, {"nodes", []corev1.Node{}}, {"machines", []look.MachineSaid{}}, {"inspect", []look.Inspected{}}, {"logs", []look.LogLine{}},
	{"history", []look.RunSaid{}}, {"history RUN", []store.Entry{}}, {"survey", []enginelook.Answer{}}, {"collect", look.CollectSaid{}},
	{"access --list", []enter.AccessSaid{}}, {"hosts", []enter.HostLine{}},
	{"trust list", enginelook.TrustReport{}}, {"trust show", trust.Entry{}}, {"trust replace, at its end", desk.ReplacedSaid{}},
	{"token issue", vouch.TokenSaid{}}, {"token list", []kube.Token{}}, {"requests list", []desk.JudgedRequest{}},
	{"site mirror", []site.Mirrored{}}, {"site images", []site.Composed{}}, {"site meet", []practise.MetSaid{}},
	{"backup list", keep.BackupsSaid{}}, {"backup take, backup show, backup copy --back", keep.BackupSaid{}}, {"backup gather", keep.GatheredSaid{}}, {"backup verify", keep.VerifiedSaid{}}, {"backup copy", memory.Copy{}}, {"prove", proof.Report{}}, {"drill", []drill.Report{}}, {"drill list", []practise.DrillListed{}},
	{"store show", keep.StoreSaid{}}, {"store show --check", keep.StoreChecked{}}, {"store move", keep.MovedSaid{}}, {"store people", []keep.PersonSaid{}}, {"store dismiss", keep.DismissedSaid{}}, {"version", versionSaid{}},
	{"every other command, and those above with nothing to do", term.Told{}}, {"what went wrong, on standard error", term.Trouble{}},
}
