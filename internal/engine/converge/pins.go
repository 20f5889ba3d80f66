package converge

import (
	"bytes"
	"path/filepath"

	"verbund/internal/core/declare"
	"verbund/internal/core/versions"
	"verbund/internal/engine/look"
	"verbund/internal/whole"
)

// pin fixes the versions and digests that a run uses, before it uses them.
func (w *Work) pin(v *look.View) error {
	var sets []versions.Set
	for _, m := range v.Cluster.Machines {
		if set, ok := w.Declared.Catalogue.Set(m.Set.Kubernetes); ok {
			sets = append(sets, set)
		}
	}
	if set, ok := w.Declared.Catalogue.Set(w.Declared.Decl.Kubernetes); ok {
		sets = append(sets, set)
	}
	return WritePins(w.Declared, w.Say, sets, w.Declared.Catalogue)
}

// WritePins fixes sets, and add-ons on versions of their own, as a catalogue
// has them; the file is written if it would change.
func WritePins(r *declare.Result, say func(format string, args ...any), sets []versions.Set, cat *versions.Catalogue) error {
	p, err := versions.NewPins(r.Decl.Name, sets, cat)
	if err != nil {
		return err
	}
	for name, addon := range r.Decl.AddOns {
		p.Artefacts[name+":"+addon.Version] = cat.Digest(name + ":" + addon.Version)
	}
	b, err := p.Encode()
	if err != nil {
		return err
	}
	old, err := whole.Read(r.PinsFile)
	if err == nil && bytes.Equal(old, b) {
		return nil
	}
	if err := whole.Write(r.PinsFile, b, 0o644); err != nil {
		return err
	}
	say("wrote %s: the versions and digests that this cluster uses", filepath.Base(r.PinsFile))
	return nil
}
