package keep

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"verbund/internal/backup"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/engine/session"
	"verbund/internal/machine/protocol"
)

// RestOf is a digest of what a backup holds beside the snapshot, as far as it matters which it
// is: what is declared, whom everybody trusts, where the control plane is, and who opens it.
// What the tool remembers beyond that changes with every run.
func RestOf(s *session.Session, c *topology.Cluster) (string, error) {
	t, err := s.Trust()
	if err != nil {
		return "", err
	}
	opens, err := openers(s)
	if err != nil {
		return "", err
	}
	h := sha256.New()
	to := json.NewEncoder(h)
	for _, v := range []any{s.Decl, s.SiteFile, opens} {
		if err := to.Encode(v); err != nil {
			return "", fmt.Errorf("what is declared, as JSON: %w", err)
		}
	}
	for _, id := range trust.Replaceable {
		for _, of := range trust.Trusted(t.Certs, id) {
			fmt.Fprintf(h, "%s %q\n", of, t.Certs[of])
		}
		for _, of := range trust.Trusted(t.Keys, id) {
			fmt.Fprintf(h, "%s %q\n", of, []byte(t.Keys[of]))
		}
	}
	for _, m := range c.Machines {
		if m.Role != versions.Worker {
			fmt.Fprintln(h, m.Name, m.Address)
		}
	}
	return hex.EncodeToString(h.Sum(nil)[:16]), nil
}

// openers are those who open the cluster's backups: the key beside these, where there is one
// already, and whom the declaration names.
func openers(s *session.Session) ([]string, error) {
	o, err := s.Store.OpensBackups()
	if err != nil {
		return nil, err
	}
	var out []string
	if o.Own != nil {
		out = append(out, o.Own.Recipient().String())
	}
	return append(out, s.Decl.Backup.Opens...), nil
}

// Rest is what a keeper of backups is left with: everything that a backup holds beside the
// snapshot, sealed, and of what it is.
func Rest(s *session.Session, c *topology.Cluster) ([]protocol.File, error) {
	to, err := closesFor(s)
	if err != nil {
		return nil, err
	}
	of, err := RestOf(s, c)
	if err != nil {
		return nil, err
	}
	opens, err := openers(s)
	if err != nil {
		return nil, err
	}
	o, err := s.Store.OpensBackups()
	if err != nil {
		return nil, err
	}
	files, err := beside(s)
	if err != nil {
		return nil, err
	}
	var sealed bytes.Buffer
	if err := backup.Seal(&sealed, to, files); err != nil {
		return nil, err
	}
	label, err := json.Marshal(nodeconf.Label{Of: of, Sealed: time.Now().UTC(), Opens: opens, Opener: o.Closed})
	if err != nil {
		return nil, err
	}
	// The label comes last: one that is there is of what lies beside it.
	return []protocol.File{{Path: nodeconf.KeeperRest, Mode: 0o600, Content: sealed.Bytes()}, {Path: nodeconf.KeeperLabel, Mode: 0o600, Content: label}}, nil
}

// beside is what a backup holds beside the snapshot, by name.
func beside(s *session.Session) (map[string][]byte, error) {
	files := map[string][]byte{}
	if s.Papers != nil {
		var err error
		if files, err = s.Papers(); err != nil {
			return nil, err
		}
	}
	p, err := s.Store.Pack()
	if err != nil {
		return nil, err
	}
	files[MemoryFile], files[MemoryKey] = p.Database, p.Key
	if p.Opener != nil {
		files[MemoryOpener] = p.Opener
	}
	return files, nil
}
