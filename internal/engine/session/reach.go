package session

import (
	"context"
	"crypto/tls"
	"io"

	"verbund/internal/datastore"
	"verbund/internal/kube"
	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
)

// Machine is one machine that was logged in to: its facts, files, artefacts, units, slots
// and logs. An error that wraps machine.ErrLost says that the connection broke, and
// nothing about the machine.
type Machine interface {
	Facts(ctx context.Context) (*protocol.FactsReply, error)
	// Put writes files whole and takes others away; it returns those that were changed.
	Put(ctx context.Context, files []protocol.File, remove []string) (changed []string, err error)
	Digests(ctx context.Context, paths []string) (map[string]string, error)
	Read(ctx context.Context, paths ...string) (map[string][]byte, error)
	// ReadFrom reads some of a file from a place in it on, in bytes, and nothing at its end.
	ReadFrom(ctx context.Context, path string, from int64) ([]byte, error)
	List(ctx context.Context, folders ...string) ([]protocol.File, error)
	Show(ctx context.Context, patterns ...string) (map[string]protocol.Shown, error)
	Probe(ctx context.Context, q protocol.ProbeRequest) (*protocol.ProbeReply, error)
	Wipe(ctx context.Context) error
	// Pull gets an artefact into a slot; fetched says whether it was not there yet.
	Pull(ctx context.Context, q protocol.PullRequest) (fetched bool, err error)
	Units(ctx context.Context) ([]protocol.UnitState, error)
	Do(ctx context.Context, method string, units ...string) error
	Logs(ctx context.Context, unit string, lines int) ([]string, error)
	// Ask says a line to a local socket of the machine, and returns what is answered.
	Ask(ctx context.Context, socket, line string) (string, error)
	// Seed makes the data of a stopped member of the datastore from a snapshot.
	Seed(ctx context.Context, q protocol.SeedRequest) error
	// Rescue takes a snapshot of a stopped member that has lost the others, in parts.
	Rescue(ctx context.Context, q protocol.RescueRequest) (parts []string, err error)
	PrepareSlot(ctx context.Context, slot string) error
	// Switch boots into a slot, and back by itself when units do not come up there.
	Switch(ctx context.Context, q protocol.SwitchRequest) (*protocol.SwitchReply, error)
	Close() error
}

// Datastore is what asks the members of the datastore, and changes who they are.
type Datastore interface {
	Health(ctx context.Context, endpoint string) error
	// Members asks a quorum, Recalled whoever answers; peers says which machine is at
	// which address.
	Members(ctx context.Context, peers map[string]datastore.Member) ([]datastore.Member, error)
	Recalled(ctx context.Context, peers map[string]datastore.Member) ([]datastore.Member, error)
	AddLearner(ctx context.Context, peer string) error
	Promote(ctx context.Context, peer string) error
	Remove(ctx context.Context, id uint64) error
	Move(ctx context.Context, id uint64, peer string) error
	Snapshot(ctx context.Context, take func(size int64, r io.Reader) error) error
	Heads(ctx context.Context, prefix, part string, n int) ([]string, error)
	// Elected is what the holder of an election has written down.
	Elected(ctx context.Context, election string) (string, error)
	// Objects are the keys of what it holds.
	Objects(ctx context.Context) (*datastore.Contents, error)
	// Conditions says how members are inside, and by ID why others do not answer.
	Conditions(ctx context.Context) ([]datastore.Condition, map[uint64]error, error)
}

// Reach is how a session comes to what it works on; what is nil is done for real: by SSH,
// by the datastore's own protocol, by the cluster's API.
type Reach struct {
	Machine   func(ctx context.Context, t machine.Target) (Machine, error)
	Datastore func(endpoints []string, t *tls.Config) Datastore
	API       func(a kube.Access) (*kube.Client, error)
}

func (s *Session) reach(ctx context.Context, t machine.Target) (Machine, error) {
	if s.By.Machine != nil {
		return s.By.Machine(ctx, t)
	}
	m, err := machine.Dial(ctx, t)
	if err != nil {
		return nil, err // not a Machine that holds nothing
	}
	return m, nil
}

func (s *Session) members(endpoints []string, t *tls.Config) Datastore {
	if s.By.Datastore != nil {
		return s.By.Datastore(endpoints, t)
	}
	return datastore.New(endpoints, t)
}

func (s *Session) api(a kube.Access) (*kube.Client, error) {
	if s.By.API != nil {
		return s.By.API(a)
	}
	return kube.New(a)
}
