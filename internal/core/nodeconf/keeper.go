package nodeconf

import (
	"encoding/json"
	"strings"
	"time"

	"verbund/internal/core/declare"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
)

// What a keeper of backups has on its machine, in a folder of its own. Machines never see what a
// cluster is raised from in plain: the tool leaves it with them, closed for those who may open
// backups.
const (
	KeeperFolder = "/var/lib/verbund/backups"
	KeeperRest   = KeeperFolder + "/rest.age"  // what belongs beside a snapshot, sealed by the tool
	KeeperLabel  = KeeperFolder + "/rest.json" // of what it is, and who opens what is taken
	KeeperReport = KeeperFolder + "/kept.json" // what the keeper last did
)

// Label says what the tool has left with a keeper.
type Label struct {
	Of     string    `json:"of"`     // digest of what is declared and of whom is trusted
	Sealed time.Time `json:"sealed"` // when
	Opens  []string  `json:"opens"`  // age recipients and SSH public keys
	Opener []byte    `json:"opener"` // what opens it, closed for whoever opens the tool's memory
}

// Kept is what a keeper of backups last did, as it says so on its machine.
type Kept struct {
	At       time.Time `json:"at"`                // when it last took one, or could not
	Trouble  string    `json:"trouble,omitempty"` // why it could not
	Taken    time.Time `json:"taken,omitzero"`    // when it last took one
	Name     string    `json:"name,omitempty"`    // of its file
	Revision int64     `json:"revision,omitempty"`
	Objects  int       `json:"objects,omitempty"`
	Bytes    int64     `json:"bytes,omitempty"` // of its file
	// Sent is where it lies as well, and there the digest of the artefact.
	Sent map[string]string `json:"sent,omitempty"`
}

// KeeperConfig is what the keeper of backups is told.
type KeeperConfig struct {
	Cluster            string          `json:"cluster"`
	Kubernetes         string          `json:"kubernetes"` // version of its machine
	Holder             string          `json:"holder"`     // this machine
	Keepers            int             `json:"keepers"`    // how many there are
	Members            []string        `json:"members"`    // machines of the datastore
	Datastore          []string        `json:"datastore"`  // URLs
	DatastoreAuthority string          `json:"datastoreAuthority"`
	Certificate        string          `json:"certificate"`
	Key                string          `json:"key"`
	Last               string          `json:"last"`    // key in the datastore, as LastBackup
	Secrets            string          `json:"secrets"` // file with the API servers' EncryptionConfiguration
	Every              string          `json:"every"`   // as Go writes a time span
	Keep               declare.KeepFew `json:"keep"`
	To                 []string        `json:"to"` // places in OCI registries to which each is sent
}

// usualKeep is what stays on a machine where the declaration does not say.
var usualKeep = declare.KeepFew{Last: 8}

// keeper writes the unit that takes backups when nobody runs the tool: one of the machines at a
// time.
func (r *renderer) keeper() {
	b := r.c.Backup
	cfg := KeeperConfig{
		Cluster: r.c.Name, Kubernetes: r.m.Set.Kubernetes, Holder: r.m.Name, Keepers: len(r.c.With(versions.Keeper)), Datastore: r.members(),
		DatastoreAuthority: tp(string(trust.Datastore) + ".crt"), Certificate: tp("backup-keeper.crt"), Key: tp("backup-keeper.key"),
		Last: LastBackup(r.c.Name), Secrets: tp(trust.SecretsKey + ".yaml"), Every: time.Duration(b.Every).String(), Keep: usualKeep,
	}
	if b.Keep != nil {
		cfg.Keep = *b.Keep
	}
	for _, to := range b.To {
		if strings.HasPrefix(to, "oci://") { // folders are those of the tool's computer
			cfg.To = append(cfg.To, to)
		}
	}
	for _, m := range r.c.With(versions.Member) {
		cfg.Members = append(cfg.Members, m.Name)
	}
	text, err := json.MarshalIndent(cfg, "", "  ")
	if err != nil {
		panic("what the keeper of backups is told cannot be written: " + err.Error())
	}
	file := Active + "etc/backup-keeper.json"
	r.text(file, 0o644, string(text)+"\n", []string{UnitKeeper})
	r.unit(unit{name: "backup-keeper", about: "keeper of the backups of cluster " + r.c.Name, after: UnitAPIServer, typ: "notify", args: flags("--config=" + file)})
}
