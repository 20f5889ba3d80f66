package session

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"runtime"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/machine/protocol"
	"verbund/internal/store"
)

// IdleSlot is the slot that a machine does not use.
func IdleSlot(active string) string {
	if active == "a" {
		return "b"
	}
	return "a"
}

// Content gives a rendered file its bytes.
func Content(f nodeconf.File, t *store.Trust) ([]byte, error) {
	switch f.Kind {
	case nodeconf.Cert:
		if c := t.Certs[f.From]; c != nil {
			return c, nil
		}
	case nodeconf.Key:
		if k := t.Keys[f.From]; k != nil {
			return k, nil
		}
	case nodeconf.Bundle:
		if t.Certs[f.From] != nil {
			return trust.Bundle(t.Certs, f.From), nil
		}
	case nodeconf.PublicKey:
		if t.Keys[f.From] != nil {
			var out []byte
			for _, id := range trust.Trusted(t.Keys, f.From) {
				sg, err := trust.DecodeKey(t.Keys[id])
				if err != nil {
					return nil, err
				}
				b, err := trust.EncodePublic(sg.Public())
				if err != nil {
					return nil, err
				}
				out = append(out, b...)
			}
			return out, nil
		}
	case nodeconf.SecretsConfig:
		if t.Keys[f.From] != nil {
			var keys [][]byte
			for _, id := range trust.Trusted(t.Keys, f.From) {
				keys = append(keys, t.Keys[id])
			}
			return trust.SecretsConfig(keys), nil
		}
	default:
		return []byte(f.Content), nil
	}
	return nil, fmt.Errorf("%s: %w", f.From, ErrNoTrust)
}

// Place moves a slotted file into a slot.
func Place(f nodeconf.File, slot string) string {
	if rest, ok := strings.CutPrefix(f.Path, nodeconf.Active); ok {
		return protocol.SlotDir + slot + "/" + rest
	}
	return f.Path
}

// Files renders a machine's files with their bytes, slotted ones into a slot.
func (s *Session) Files(c *topology.Cluster, m topology.Machine, o nodeconf.Options, slot string) ([]protocol.File, []nodeconf.File, error) {
	t, err := s.Trust()
	if err != nil {
		return nil, nil, err
	}
	rendered := nodeconf.Render(c, m, o)
	out := make([]protocol.File, len(rendered))
	var unmade error
	for i, f := range rendered {
		b, err := Content(f, t)
		if errors.Is(err, ErrNoTrust) {
			unmade = err
		} else if err != nil {
			return nil, nil, err
		}
		out[i] = protocol.File{Path: Place(f, slot), Mode: f.Mode, Content: b}
	}
	return out, rendered, unmade
}

// Rendered is one file of a machine with its bytes.
type Rendered struct {
	nodeconf.File
	Bytes []byte
}

// RenderAll renders the files of every machine on all processors and hands each
// machine's to each, which is called from several goroutines at once. It ends with
// the first error; what is yet to be made is one: ErrNoTrust.
func RenderAll(c *topology.Cluster, t *store.Trust, each func(topology.Machine, []Rendered) error) error {
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for _, m := range c.Machines {
		g.Go(func() error {
			fs := nodeconf.Render(c, m, nodeconf.Options{})
			out := make([]Rendered, len(fs))
			for i, f := range fs {
				b, err := Content(f, t)
				if err != nil {
					return fmt.Errorf("machine %s, %s: %w", m.Name, f.Path, err)
				}
				out[i] = Rendered{f, b}
			}
			return each(m, out)
		})
	}
	return g.Wait()
}

// ModeOf is the mode that is part of what the agent says of a file.
func ModeOf(digest string) fs.FileMode {
	_, mode, _ := strings.Cut(digest, " ")
	n, _ := strconv.ParseUint(mode, 8, 32)
	return fs.FileMode(n).Perm()
}

// FileDigest is what the agent says of a file with this content and mode.
func FileDigest(f protocol.File) string {
	sum := sha256.Sum256(f.Content)
	return fmt.Sprintf("%s %o", hex.EncodeToString(sum[:]), f.Mode.Perm())
}
