package store

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/whole"
)

// Format is the version of the database's layout. In the first one secrets lay
// there in plain, in the second values were under no check, in the third there
// were no tables for roll-outs, in the fourth none for what is kept; a store of these
// kinds is brought to this one when it is next changed.
const Format = 5

// Dir is the folder of the tool's memory, beside the declaration.
const Dir = ".verbund"

// Secret is bytes that do not print, log or marshal themselves.
type Secret []byte

// String hides the secret.
func (Secret) String() string { return "(secret)" }

// GoString hides the secret.
func (Secret) GoString() string { return "(secret)" }

// MarshalJSON refuses.
func (Secret) MarshalJSON() ([]byte, error) { return nil, errors.New("a secret is not written out") }

// Machine is what is remembered of a machine.
type Machine struct {
	Address     netip.Addr `json:"address"`
	Hardware    string     `json:"hardware,omitempty"`
	Fingerprint string     `json:"fingerprint,omitempty"` // of the host key, from its console
}

// Facts are properties that cannot change once the cluster lives.
type Facts = topology.Facts

// Store is the memory of one cluster.
type Store struct {
	Path   string
	keeper Keeper
	mu     sync.Mutex
	key    []byte // of the secrets, once it was opened
	keyOf  []byte // what it was opened from

	reading sync.Mutex
	read    [2]readSoFar // of the earlier journal, and of this one
}

var (
	bucketMeta     = []byte("meta")
	bucketSecrets  = []byte("secrets")
	bucketCerts    = []byte("certificates")
	bucketMachines = []byte("machines")
	bucketMembers  = []byte("members")
	bucketFiles    = []byte("kubeconfigs")
	bucketResting  = []byte("resting")
	bucketCounts   = []byte("counts")
	bucketAsked    = []byte("asked")     // certificates that somebody wants renewed
	bucketReplaced = []byte("replaced")  // replacements underway
	bucketGiven    = []byte("given")     // certificates of people and programs
	bucketExchange = []byte("exchanged") // machines that give way to new ones
	bucketPeers    = []byte("peers")     // addresses of the members with whom another was born
	bucketNumbers  = []byte("numbers")   // of groups in which any machine has given way
	bucketRollout  = []byte("rollout")   // that is underway
	bucketKept     = []byte("kept")      // of backups, and the restoration that is underway
)

var buckets = [][]byte{bucketMeta, bucketSecrets, bucketCerts, bucketMachines, bucketMembers, bucketFiles, bucketResting, bucketCounts, bucketAsked, bucketReplaced, bucketGiven, bucketExchange, bucketPeers, bucketNumbers, bucketRollout, bucketKept}

// ignored is what of the tool's folder does not belong in version control:
// locks, and the simulated site, on whose disks keys lie as they do on those of
// real machines. Everything else may be committed.
const ignored = "# locks, the simulated machines with their disks, and backups, which hold every Secret\n# of a cluster, encrypted; the rest may be committed. Take a line out to keep what it names.\nsites/\nlock\ndrill.lock\ndrill.json\nbackups/\n*.new\n"

// ignoredBefore is what earlier versions of this program wrote there.
var ignoredBefore = []string{
	"# locks, and the simulated machines with their disks; the rest may be committed\nsites/\nlock\n",
	strings.Replace(ignored, "drill.lock\ndrill.json\n", "", 1),
}

// since says in which format a table came, of those that were not in the first three.
var since = map[string]int{string(bucketPeers): 4, string(bucketNumbers): 4, string(bucketRollout): 4, string(bucketKept): 5}

// checked is the first format in which every entry is under a check.
const checked = 3

// Open finds or makes the memory of a cluster under folder. Its secrets are
// encrypted as the keeper says.
func Open(folder, cluster string, k Keeper) (*Store, error) {
	s := At(folder, cluster, k)
	return s, s.Make()
}

// Make makes the memory if there is none, and encrypts one whose secrets lie
// there in plain.
func (s *Store) Make() error {
	if err := s.folder(); err != nil {
		return err
	}
	// One that is as it should be is not touched: nothing in it changes.
	current := false
	err := s.view(func(t *tx) error {
		p, err := protectionOf(t)
		current = err == nil && p != nil && !t.old
		return err
	})
	if err != nil || current {
		return err
	}
	if err := s.update(func(t *tx) error { return nil }); err != nil {
		return err
	}
	return s.protect()
}

// folder makes the store's folder, and says there what is not for version control.
func (s *Store) folder() error {
	if err := os.MkdirAll(s.Path, 0o700); err != nil {
		return fmt.Errorf("making the store %s: %w", s.Path, err)
	}
	ignore := filepath.Join(filepath.Dir(s.Path), ".gitignore")
	// What somebody wrote there himself stays.
	have, err := whole.Read(ignore)
	if err == nil && !slices.Contains(ignoredBefore, string(have)) {
		return nil
	}
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return whole.Write(ignore, []byte(ignored), 0o644)
}

// At is the memory of a cluster, which may not exist.
func At(folder, cluster string, k Keeper) *Store {
	return &Store{Path: filepath.Join(folder, Dir, cluster), keeper: k}
}

// Exists says whether anything is remembered.
func (s *Store) Exists() bool {
	_, err := os.Stat(s.file())
	return err == nil
}

func (s *Store) file() string { return filepath.Join(s.Path, "store.db") }

// backupDir is where backups of the datastore are kept.
func (s *Store) backupDir() string { return filepath.Join(s.Path, "backups") }

// Trust is everything signed or to sign with, by ID.
type Trust struct {
	Keys  map[string]Secret
	Certs map[string][]byte
}

// Trust reads all keys and certificates.
func (s *Store) Trust() (*Trust, error) {
	for try := 0; ; try++ {
		t, p, err := s.openTrust()
		var closed *Closed
		if err == nil || p == nil || try == mostAnew || !errors.As(err, &closed) {
			return t, err
		}
		// What opened it may have gone with another way of closing it.
		if now, perr := s.Protection(); perr != nil || now == nil || bytes.Equal(now.Wrapped, p.Wrapped) {
			return nil, err
		}
	}
}

// openTrust reads all keys and certificates, and says how the keys are closed.
func (s *Store) openTrust() (*Trust, *Protection, error) {
	t := &Trust{Keys: map[string]Secret{}, Certs: map[string][]byte{}}
	var p *Protection
	err := s.view(func(tx *tx) error {
		var err error
		if p, err = protectionOf(tx); err != nil {
			return err
		}
		err = tx.table(bucketSecrets).each(func(k string, v []byte) error {
			t.Keys[k] = append(Secret{}, v...)
			return nil
		})
		return errors.Join(err, tx.table(bucketCerts).each(func(k string, v []byte) error {
			t.Certs[k] = append([]byte{}, v...)
			return nil
		}))
	})
	if err != nil || p == nil || len(t.Keys) == 0 {
		return t, p, err
	}
	key, err := s.unlock(p)
	if err != nil {
		return nil, p, err
	}
	for id, sealed := range t.Keys {
		if t.Keys[id], err = open(key, id, sealed); err != nil {
			return nil, p, &Damage{s.file(), err}
		}
	}
	return t, p, nil
}

// SaveTrust adds keys and certificates and takes others away, all or none.
func (s *Store) SaveTrust(t *Trust, gone ...string) error {
	return s.sealed(t, func(tx *tx, key []byte) error { return putTrust(tx, key, t, gone) })
}

// SaveReplacement remembers how far a replacement has come, with the keys and
// certificates of that pass, all or none; nil forgets it.
func (s *Store) SaveReplacement(id string, r *trust.Replacement, t *Trust, gone ...string) error {
	return s.sealed(t, func(tx *tx, key []byte) error {
		if err := putTrust(tx, key, t, gone); err != nil {
			return err
		}
		if r == nil {
			return tx.table(bucketReplaced).delete(id)
		}
		b, err := json.Marshal(r)
		if err != nil {
			return err
		}
		return tx.table(bucketReplaced).put(id, b)
	})
}

// sealed changes the store with the key with which its secrets are sealed, if any are to
// be. That is looked up before, for a person may be asked; a store that was closed anew
// meanwhile is not written to with the key from before, which would open nothing.
func (s *Store) sealed(t *Trust, f func(tx *tx, key []byte) error) error {
	for try := 0; ; try++ {
		p, err := s.Protection()
		if err != nil {
			return err
		}
		var key []byte
		if p != nil && len(t.Keys) > 0 {
			if key, err = s.unlock(p); err != nil {
				return err
			}
		}
		err = s.update(func(tx *tx) error {
			now, err := protectionOf(tx)
			if err != nil {
				return err
			}
			if key != nil && (now == nil || !bytes.Equal(now.Wrapped, p.Wrapped)) {
				return errClosedAnew
			}
			return f(tx, key)
		})
		if !errors.Is(err, errClosedAnew) || try == mostAnew {
			return err
		}
	}
}

var errClosedAnew = errors.New("the store was closed anew meanwhile; try again")

func putTrust(tx *tx, key []byte, t *Trust, gone []string) error {
	secrets, certs := tx.table(bucketSecrets), tx.table(bucketCerts)
	for _, id := range gone {
		if err := errors.Join(secrets.delete(id), certs.delete(id)); err != nil {
			return err
		}
	}
	for id, k := range t.Keys {
		v := []byte(k)
		if key != nil {
			var err error
			if v, err = seal(key, id, k); err != nil {
				return err
			}
		}
		if err := secrets.put(id, v); err != nil {
			return err
		}
	}
	for id, c := range t.Certs {
		if err := certs.put(id, c); err != nil {
			return err
		}
	}
	return nil
}

// Asked lists the certificates that somebody wants renewed before they are due.
func (s *Store) Asked() (map[string]bool, error) { return readAll[bool](s, bucketAsked) }

// SaveAsked remembers that certificates are to be renewed, or that they were.
func (s *Store) SaveAsked(ids []string, asked bool) error {
	if len(ids) == 0 {
		return nil
	}
	return s.update(func(t *tx) error {
		for _, id := range ids {
			var err error
			if asked {
				err = t.table(bucketAsked).put(id, []byte("true"))
			} else {
				err = t.table(bucketAsked).delete(id)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// Replacements lists what is being replaced, and how far that has come.
func (s *Store) Replacements() (map[string]trust.Replacement, error) {
	return readAll[trust.Replacement](s, bucketReplaced)
}

// Given is a certificate that was given to a person or a program, which cannot
// be taken back.
type Given struct {
	Name   string    `json:"name"`
	Groups []string  `json:"groups"`
	From   time.Time `json:"from"`
	Until  time.Time `json:"until"`
	Serial string    `json:"serial"`
	// Authority is the serial number of the authority that signed it: when that
	// one is distrusted, the certificate does not work any more.
	Authority string `json:"authority"`
	Kind      string `json:"kind"` // person, break-glass, program
	Reason    string `json:"reason,omitempty"`
}

// Givens lists the certificates that were given away, by serial number.
func (s *Store) Givens() (map[string]Given, error) { return readAll[Given](s, bucketGiven) }

// SaveGiven remembers a certificate that is given away.
func (s *Store) SaveGiven(g Given) error { return s.put(bucketGiven, g.Serial, g) }

// Machines lists what is remembered of machines.
func (s *Store) Machines() (map[string]Machine, error) {
	return readAll[Machine](s, bucketMachines)
}

// Machine is what is remembered of one machine; nothing when it is not known.
func (s *Store) Machine(name string) (m Machine, known bool, err error) {
	err = s.view(func(t *tx) error {
		v, err := t.table(bucketMachines).get(name)
		if err != nil || v == nil {
			return err
		}
		if err := json.Unmarshal(v, &m); err != nil {
			return t.table(bucketMachines).spoilt([]byte(name), err.Error())
		}
		known = true
		return nil
	})
	return m, known, err
}

// SaveMachine remembers a machine.
func (s *Store) SaveMachine(name string, m Machine) error { return s.put(bucketMachines, name, m) }

// ForgetMachine forgets a machine, with its certificates and keys.
func (s *Store) ForgetMachine(name string) error {
	return s.update(func(t *tx) error {
		if err := t.table(bucketAsked).clear(func(id string) bool { return strings.HasPrefix(id, name+"/") }); err != nil {
			return err
		}
		for _, b := range [][]byte{bucketSecrets, bucketCerts} {
			if err := t.table(b).clear(func(id string) bool { return strings.HasPrefix(strings.TrimPrefix(id, "was/"), name+"/") }); err != nil {
				return err
			}
		}
		return errors.Join(t.table(bucketMachines).delete(name), t.table(bucketResting).delete(name), t.table(bucketMembers).delete(name), t.table(bucketPeers).delete(name))
	})
}

// Members lists, by control-plane machine, the members that the datastore had
// when its own was born.
func (s *Store) Members() (map[string][]string, error) { return readAll[[]string](s, bucketMembers) }

// Peers lists, by machine, where the members were with whom its own was born.
func (s *Store) Peers() (map[string]map[string]netip.Addr, error) {
	return readAll[map[string]netip.Addr](s, bucketPeers)
}

// SavePeers remembers where the members are with whom those of machines are about to be born.
func (s *Store) SavePeers(peers map[string]netip.Addr, machines ...string) error {
	b, err := json.Marshal(peers)
	if err != nil {
		return err
	}
	return s.update(func(t *tx) error {
		for _, m := range machines {
			if err := t.table(bucketPeers).put(m, b); err != nil {
				return err
			}
		}
		return nil
	})
}

// Founders lists the machines whose members found the datastore together.
func (s *Store) Founders() ([]string, error) {
	var out []string
	err := s.view(func(t *tx) (err error) {
		out, err = founders(t)
		return err
	})
	return out, err
}

func founders(t *tx) (out []string, err error) {
	v, err := t.table(bucketMeta).get("founders")
	if err == nil && v != nil {
		if err = json.Unmarshal(v, &out); err != nil {
			err = t.table(bucketMeta).spoilt([]byte("founders"), err.Error())
		}
	}
	return out, err
}

func saveFounders(t *tx, names []string) error {
	b, err := json.Marshal(names)
	if err != nil {
		return err
	}
	return t.table(bucketMeta).put("founders", b)
}

// SaveFounding remembers who is about to found the datastore, all at once.
func (s *Store) SaveFounding(names []string) error {
	all, err := json.Marshal(names)
	if err != nil {
		return err
	}
	return s.update(func(t *tx) error {
		if v, err := t.table(bucketMeta).get("facts"); err != nil || v != nil {
			return errors.Join(err, errors.New("the datastore was founded already"))
		}
		if err := t.table(bucketMembers).clear(func(string) bool { return true }); err != nil {
			return err
		}
		for _, n := range names {
			if err := t.table(bucketMembers).put(n, all); err != nil {
				return err
			}
		}
		return saveFounders(t, names)
	})
}

// SaveMember remembers how a member is born that joins; nil forgets it. Whoever
// leaves or joins is no founder any more: its member must never found again.
func (s *Store) SaveMember(name string, members []string) error {
	b, err := json.Marshal(members)
	if err != nil {
		return err
	}
	return s.update(func(t *tx) error {
		have, err := founders(t)
		if err != nil {
			return err
		}
		if left := slices.DeleteFunc(slices.Clone(have), func(f string) bool { return f == name }); len(left) < len(have) {
			if err := saveFounders(t, left); err != nil {
				return err
			}
		}
		if members == nil {
			return errors.Join(t.table(bucketMembers).delete(name), t.table(bucketPeers).delete(name))
		}
		return t.table(bucketMembers).put(name, b)
	})
}

// Resting lists the machines that were taken out of the balancer.
func (s *Store) Resting() (map[string]bool, error) { return readAll[bool](s, bucketResting) }

// SaveResting remembers that a machine is out of the balancer, or forgets it.
func (s *Store) SaveResting(name string, out bool) error {
	if !out {
		return s.update(func(t *tx) error { return t.table(bucketResting).delete(name) })
	}
	return s.put(bucketResting, name, true)
}

// Exchanges lists, by machine, the hardware address of the one that is to give
// way to a new one. It is remembered from before the old one goes until the new
// one is well.
func (s *Store) Exchanges() (map[string]string, error) { return readAll[string](s, bucketExchange) }

// SaveExchange remembers that a machine is to give way to a new one, or with an
// empty hardware address that it has.
func (s *Store) SaveExchange(name, hardware string) error {
	if hardware == "" {
		return s.update(func(t *tx) error { return t.table(bucketExchange).delete(name) })
	}
	return s.put(bucketExchange, name, hardware)
}

// Counts lists how many machines the pools have whose count is a range.
func (s *Store) Counts() (map[string]int, error) { return readAll[int](s, bucketCounts) }

// SaveCount remembers how many machines a pool is to have.
func (s *Store) SaveCount(pool string, n int) error { return s.put(bucketCounts, pool, n) }

// Kubeconfigs lists the files into which access was merged.
func (s *Store) Kubeconfigs() (map[string]time.Time, error) {
	return readAll[time.Time](s, bucketFiles)
}

// SaveKubeconfig remembers a file into which access was merged.
func (s *Store) SaveKubeconfig(path string, at time.Time) error { return s.put(bucketFiles, path, at) }

// Facts reads what cannot change; nil before the cluster was founded.
func (s *Store) Facts() (*Facts, error) {
	var f *Facts
	err := s.view(func(t *tx) error {
		v, err := t.table(bucketMeta).get("facts")
		if err != nil || v == nil {
			return err
		}
		f = &Facts{}
		if err := json.Unmarshal(v, f); err != nil {
			return t.table(bucketMeta).spoilt([]byte("facts"), err.Error())
		}
		return nil
	})
	return f, err
}

// SaveFacts records that the cluster was founded.
func (s *Store) SaveFacts(f Facts) error {
	b, err := json.Marshal(f)
	if err != nil {
		return err
	}
	return s.update(func(t *tx) error {
		return errors.Join(t.table(bucketMeta).put("facts", b), t.table(bucketMeta).delete("clearing"))
	})
}

// ForgetFounding forgets that the cluster was founded, and everything that
// belongs to that life; keys, certificates, addresses and host keys stay. That
// its machines are being cleared is remembered until Cleared, or until the
// cluster is founded again.
func (s *Store) ForgetFounding() error {
	return s.update(func(t *tx) error {
		for _, b := range [][]byte{bucketMembers, bucketPeers, bucketResting, bucketRollout} {
			if err := t.table(b).clear(func(string) bool { return true }); err != nil {
				return err
			}
		}
		return errors.Join(t.table(bucketKept).delete(keyRestoring), t.table(bucketMeta).delete("facts"), t.table(bucketMeta).delete("founders"), t.table(bucketMeta).put("clearing", []byte("true")))
	})
}

// Cleared says that all machines were cleared.
func (s *Store) Cleared() error {
	return s.update(func(t *tx) error { return t.table(bucketMeta).delete("clearing") })
}

// Clearing says whether machines may still hold what an interrupted clear was
// to take away.
func (s *Store) Clearing() (bool, error) {
	clearing := false
	err := s.view(func(t *tx) error {
		v, err := t.table(bucketMeta).get("clearing")
		clearing = v != nil
		return err
	})
	return clearing, err
}

func (s *Store) put(bucket []byte, key string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return s.update(func(t *tx) error { return t.table(bucket).put(key, b) })
}

func readAll[T any](s *Store, bucket []byte) (map[string]T, error) {
	out := map[string]T{}
	return out, s.view(func(t *tx) error {
		b := t.table(bucket)
		return b.each(func(k string, v []byte) error {
			var x T
			if err := json.Unmarshal(v, &x); err != nil {
				return b.spoilt([]byte(k), err.Error())
			}
			out[k] = x
			return nil
		})
	})
}

// Remove deletes the memory but for the journal and backups.
func (s *Store) Remove() error {
	p, err := s.Protection()
	var damage *Damage
	switch {
	case errors.As(err, &damage), errors.Is(err, os.ErrNotExist):
		p = nil // what opens it cannot be known any more, and stays
	case err != nil:
		return err
	}
	if err := errors.Join(ignoreMissing(os.Remove(s.file())), ignoreMissing(os.Remove(filepath.Join(s.Path, "lock"))), ignoreMissing(os.Remove(filepath.Join(s.Path, "drill.lock"))), ignoreMissing(os.Remove(filepath.Join(s.Path, "drill.json")))); err != nil {
		return err
	}
	// What opens the backups stays with them.
	opens := filepath.Join(s.backupDir(), aside)
	if left := whole.Named(s.backupDir(), ""); p != nil && s.keeper != nil && !slices.ContainsFunc(left, func(f string) bool { return f != opens }) {
		return errors.Join(ignoreMissing(os.Remove(opens)), s.keeper.Forget(*p))
	}
	return nil
}

func ignoreMissing(err error) error {
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}
