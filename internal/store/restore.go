package store

import (
	"encoding/json"
	"errors"
	"strings"
	"time"
)

// Restoring is a restoration of the datastore that has begun and is not over: until it is, the
// cluster counts as one that is still to be founded, from a backup.
type Restoring struct {
	// ID tells the datastore that is founded so from every other one.
	ID     string    `json:"id"`
	Backup string    `json:"backup"` // name of its file
	Since  time.Time `json:"since"`
	// Kubernetes is the version that the backup is of, in whose minor it is restored.
	Kubernetes string `json:"kubernetes,omitempty"`
	// Founded says that the datastore is founded; what is left is what converge does.
	Founded bool `json:"founded,omitempty"`
}

// Copy is a copy of a backup that was sent off.
type Copy struct {
	To     string    `json:"to"`               // a folder, or oci://HOST/REPOSITORY
	Digest string    `json:"digest,omitempty"` // of the artefact, in a registry
	At     time.Time `json:"at"`
	// Checked is when it was last read there and found as it was sent; zero: never.
	Checked time.Time `json:"checked,omitzero"`
}

// BackupNote is what is remembered of a backup, beside what stands in it.
type BackupNote struct {
	// Verified is when all of it was last read and found as it was written; Raised, when a
	// member of the datastore was last raised from it.
	Verified time.Time `json:"verified,omitzero"`
	Raised   time.Time `json:"raised,omitzero"`
	Copies   []Copy    `json:"copies,omitempty"`
}

// Keys of what is remembered of backups: a note by the name of the file.
const (
	keyRestoring = "restoring"
	keyNote      = "note/"
)

// Restoring is the restoration that is underway; nil when none is.
func (s *Store) Restoring() (*Restoring, error) {
	all, err := readAll[json.RawMessage](s, bucketKept)
	b, ok := all[keyRestoring]
	if err != nil || !ok {
		return nil, err
	}
	r := &Restoring{}
	return r, json.Unmarshal(b, r)
}

// SaveRestoring remembers that a restoration has begun, by which all members are made anew,
// together; nil that it is over. None of them founds: each has its data before it starts.
func (s *Store) SaveRestoring(r *Restoring, members []string, keys *Trust) error {
	if r == nil {
		return s.update(func(t *tx) error { return t.table(bucketKept).delete(keyRestoring) })
	}
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	all, err := json.Marshal(members)
	if err != nil {
		return err
	}
	every := func(string) bool { return true }
	if keys == nil {
		keys = &Trust{}
	}
	return s.sealed(keys, func(t *tx, key []byte) error {
		err := errors.Join(putTrust(t, key, keys, nil), t.table(bucketKept).put(keyRestoring, b), t.table(bucketMembers).clear(every), saveFounders(t, nil),
			t.table(bucketRollout).clear(func(k string) bool { return !strings.HasPrefix(k, keyWas) }), t.table(bucketResting).clear(every))
		for _, n := range members {
			err = errors.Join(err, t.table(bucketMembers).put(n, all))
		}
		return err
	})
}

// Restored remembers that the datastore was founded from the backup.
func (s *Store) Restored(f Facts) error {
	r, err := s.Restoring()
	if err != nil {
		return err
	}
	if r == nil {
		return errors.New("no restoration is underway")
	}
	r.Founded = true
	facts, err := json.Marshal(f)
	if err != nil {
		return err
	}
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return s.update(func(t *tx) error {
		return errors.Join(t.table(bucketMeta).put("facts", facts), t.table(bucketMeta).delete("clearing"), t.table(bucketKept).put(keyRestoring, b))
	})
}

// BackupNotes lists what is remembered of backups, by the names of their files.
func (s *Store) BackupNotes() (map[string]BackupNote, error) {
	all, err := readAll[json.RawMessage](s, bucketKept)
	out := map[string]BackupNote{}
	for k, b := range all {
		name, ok := strings.CutPrefix(k, keyNote)
		if !ok {
			continue
		}
		var n BackupNote
		if err := json.Unmarshal(b, &n); err != nil {
			return nil, err
		}
		out[name] = n
	}
	return out, err
}

// SaveBackupNote remembers something of a backup; nil forgets it.
func (s *Store) SaveBackupNote(name string, n *BackupNote) error {
	if n == nil {
		return s.update(func(t *tx) error { return t.table(bucketKept).delete(keyNote + name) })
	}
	return s.put(bucketKept, keyNote+name, n)
}
