package daemon

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"verbund/internal/whole"
)

// The inventory is kept three times over: as it is, as it was before the last
// change, and machine by machine in a record beside each disk. Each file is under
// a check of its own.

// recordEnding is that of the records beside the disks.
const recordEnding = ".record.json"

// checked is a file of which a changed bit is noticed.
type checked struct {
	Check string          `json:"check"` // SHA-256 of content, in hex
	Data  json.RawMessage `json:"content"`
}

// writeChecked writes a file whole. With keep, the one before stays beside it.
func writeChecked(file string, v any, keep bool) error {
	data, err := json.Marshal(v)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(data)
	b, err := json.Marshal(checked{hex.EncodeToString(sum[:]), data})
	if err != nil {
		return err
	}
	if keep {
		os.Remove(file + beforeEnding)
		if err := os.Link(file, file+beforeEnding); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return whole.Write(file, b, 0o600)
}

// beforeEnding is that of the inventory before the last change.
const beforeEnding = ".before"

func readChecked(file string, v any) error {
	b, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	var c checked
	if err := json.Unmarshal(b, &c); err != nil {
		return fmt.Errorf("%s is damaged: %v", filepath.Base(file), err)
	}
	if c.Check == "" && c.Data == nil {
		return json.Unmarshal(b, v) // from before there was a check
	}
	var compact bytes.Buffer
	if err := json.Compact(&compact, c.Data); err != nil {
		return fmt.Errorf("%s is damaged: %v", filepath.Base(file), err)
	}
	if sum := sha256.Sum256(compact.Bytes()); hex.EncodeToString(sum[:]) != c.Check {
		return fmt.Errorf("%s is damaged: it is not as it was written", filepath.Base(file))
	}
	if err := json.Unmarshal(c.Data, v); err != nil {
		return fmt.Errorf("%s is damaged: %v", filepath.Base(file), err)
	}
	return nil
}

// load reads the inventory. One that is damaged is put together again from the one
// before and from the records of the disks, and said is what was done.
func (s *site) load() (said string, err error) {
	file := filepath.Join(s.folder, stateFile)
	var st state
	err = readChecked(file, &st)
	for n, m := range st.Machines {
		if m == nil {
			err = fmt.Errorf("%s is damaged: machine %q is nothing", stateFile, n)
		}
	}
	if errors.Is(err, os.ErrNotExist) {
		return "", nil
	}
	if damage := err; damage != nil {
		if st, said, err = s.rebuild(file); err != nil {
			return "", fmt.Errorf("the inventory of the site in %s: %v, and it cannot be put together again: %w; bring %s back from a backup of that folder", s.folder, damage, err, stateFile)
		}
		said = damage.Error() + "; " + said
		// What is damaged is kept for whoever wants to know why.
		if err := os.Rename(file, file+".damaged"); err != nil {
			return "", err
		}
	}
	s.orders = st.Orders
	for n, m := range st.Machines {
		// Whatever was cut is whole again.
		m.Spec.Faults.Links = nil
		s.machines[n] = m
	}
	for d, i := range st.Images {
		i.ready = make(chan struct{})
		close(i.ready)
		s.images[d] = i
	}
	if said != "" {
		err = s.save()
	}
	return said, err
}

// rebuild puts an inventory together: the machines from the records of their disks,
// which are as new as the inventory, and the rest from the one before.
func (s *site) rebuild(file string) (state, string, error) {
	var st state
	berr := readChecked(file+beforeEnding, &st)
	if berr != nil {
		st = state{}
	}
	records := whole.Named(filepath.Join(s.folder, "disks"), recordEnding)
	if len(records) == 0 {
		return st, "the one before the last change is used", berr
	}
	before := len(st.Machines)
	st.Machines = map[string]*machine{}
	var lost []string
	for _, r := range records {
		m := &machine{}
		if err := readChecked(r, m); err != nil || m.Name == "" {
			lost = append(lost, strings.TrimSuffix(filepath.Base(r), recordEnding))
			continue
		}
		st.Machines[m.Name] = m
	}
	if len(lost) > 0 {
		return st, "", fmt.Errorf("the records of %s are damaged, too", strings.Join(lost, ", "))
	}
	// No two machines may ever have the same hardware address.
	st.Orders = max(st.Orders, before, len(st.Machines)) + 1000
	if st.Images == nil {
		st.Images = map[string]*image{}
	}
	return st, fmt.Sprintf("it is put together again from the records of %d disks", len(records)), nil
}

// save writes the inventory, and the records of machines that have changed; the
// caller holds the lock.
func (s *site) save() error {
	var errs []error
	for _, m := range s.machines {
		now, err := json.Marshal(m)
		if err != nil {
			return err
		}
		if bytes.Equal(now, s.records[m.Name]) {
			continue
		}
		if err := os.MkdirAll(filepath.Dir(recordOf(m)), 0o700); err != nil {
			return err
		}
		if err := writeChecked(recordOf(m), m, false); err != nil {
			errs = append(errs, err)
			continue
		}
		s.records[m.Name] = now
	}
	return errors.Join(append(errs, writeChecked(filepath.Join(s.folder, stateFile), state{s.orders, s.machines, s.images}, true))...)
}

func recordOf(m *machine) string { return m.Spec.Root + recordEnding }
