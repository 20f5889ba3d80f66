package daemon

import (
	"errors"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"verbund/internal/core/declare"
	"verbund/internal/sim/host"
	"verbund/internal/site/protocol"
)

func emptySite(folder string) *site {
	return &site{folder: folder, file: &declare.Site{Name: "estuary"}, machines: map[string]*machine{}, records: map[string][]byte{}, images: map[string]*image{}}
}

// An inventory that is damaged in whatever way is put together again, and said
// is that it was; it never comes up as another one.
func TestDamagedInventory(t *testing.T) {
	folder := t.TempDir()
	s := emptySite(folder)
	for i, name := range []string{"tidewatch-control-1", "tidewatch-keepers-1"} {
		a := netip.AddrFrom4([4]byte{127, 81, 7, byte(10 + i)})
		s.orders++
		s.machines[name] = &machine{Machine: protocol.Machine{Name: name, Cluster: "tidewatch", Address: a, Hardware: name + " hardware"}, Wanted: true, Spec: host.Spec{Name: name, Address: a, Root: filepath.Join(folder, "disks", name)}}
		if err := s.save(); err != nil {
			t.Fatal(err)
		}
	}
	want := s.machines
	file := filepath.Join(folder, stateFile)
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	load := func(what string, b []byte, damaged bool) {
		t.Helper()
		if err := os.WriteFile(file, b, 0o600); err != nil {
			t.Fatal(err)
		}
		s := emptySite(folder)
		said, err := s.load()
		if err != nil || (said != "") != damaged || !reflect.DeepEqual(s.machines, want) {
			t.Errorf("%s: said %q, %v; %d machines", what, said, err, len(s.machines))
		}
		if damaged && (!strings.Contains(said, "damaged") || !strings.Contains(said, "records of 2 disks") || s.orders < 1000) {
			t.Errorf("%s: said %q, %d orders", what, said, s.orders)
		}
	}
	load("whole", whole, false)
	load("empty", nil, true)
	load("half", whole[:len(whole)/2], true)
	load("zeros", make([]byte, len(whole)), true)
	r, same := rand.New(rand.NewPCG(3, 4)), 0
	for range 40 {
		b := append([]byte{}, whole...)
		b[r.IntN(len(b))] ^= 1 << r.IntN(8)
		// A letter of a key may be large or small: then nothing is lost.
		if err := os.WriteFile(file, b, 0o600); err != nil {
			t.Fatal(err)
		}
		s := emptySite(folder)
		said, err := s.load()
		if err != nil || !reflect.DeepEqual(s.machines, want) {
			t.Errorf("a bit: said %q, %v; %d machines", said, err, len(s.machines))
		}
		if said == "" {
			same++
		}
	}
	if same > 10 {
		t.Errorf("of 40 changed bits %d were not noticed", same)
	}
	// Without the records it is the one before; without that, nothing is made up.
	records, err := filepath.Glob(filepath.Join(folder, "disks", "*"))
	if err != nil || len(records) != 2 {
		t.Fatalf("records %v, %v", records, err)
	}
	if err := os.WriteFile(records[0], []byte("spoilt"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if said, err := emptySite(folder).load(); err == nil || !strings.Contains(err.Error(), "tidewatch-control-1 are damaged, too") {
		t.Errorf("with a damaged record: %q, %v", said, err)
	}
}

// A machine's disk goes only when the inventory without it is on the disk: with a full
// one nothing is lost.
func TestDiskStaysWithoutInventory(t *testing.T) {
	folder := t.TempDir()
	s := emptySite(folder)
	m := &machine{Machine: protocol.Machine{Name: "tidewatch-keepers-1"}, Spec: host.Spec{Root: filepath.Join(folder, "disks", "one")}}
	s.machines[m.Name] = m
	if err := errors.Join(s.save(), os.MkdirAll(m.Spec.Root, 0o700)); err != nil {
		t.Fatal(err)
	}
	// Nothing can be put in the place of a folder: writing fails at its last step.
	file := filepath.Join(folder, stateFile)
	if err := errors.Join(os.Rename(file, file+".aside"), os.MkdirAll(filepath.Join(file, "x"), 0o700)); err != nil {
		t.Fatal(err)
	}
	err := s.forget(m)
	_, disk := os.Stat(m.Spec.Root)
	if err == nil || !strings.Contains(err.Error(), "keeps its disk") || disk != nil || s.machines[m.Name] != m {
		t.Errorf("%v; the disk: %v; %d machines", err, disk, len(s.machines))
	}
	if err := errors.Join(os.RemoveAll(file), os.Rename(file+".aside", file)); err != nil {
		t.Fatal(err)
	}
	if err := s.forget(m); err != nil || len(s.machines) != 0 {
		t.Errorf("%v; %d machines", err, len(s.machines))
	}
	if _, err := os.Stat(m.Spec.Root); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the disk is still there: %v", err)
	}
}
