package agenttest

import (
	"context"
	"io"
	"strings"
	"testing"

	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"

	"verbund/internal/datastore/datastoretest"
	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
)

// snapshotOf is a snapshot of a datastore with one key.
func snapshotOf(t *testing.T, key string) []byte {
	t.Helper()
	cl, err := clientv3.New(clientv3.Config{Endpoints: []string{datastoretest.Alone(t)}, Logger: zap.NewNop()})
	if err != nil {
		t.Fatal(err)
	}
	defer cl.Close()
	ctx, cancel := context.WithTimeout(t.Context(), limit)
	defer cancel()
	if _, err := cl.Put(ctx, key, strings.Repeat("x", 1<<20)); err != nil {
		t.Fatal(err)
	}
	r, err := cl.Snapshot(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	b, err := io.ReadAll(r)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// seed makes the data of a member from a snapshot in parts, in the place of what there was, and
// has it back as a snapshot; one that is damaged takes nothing's place, and what runs is not
// touched.
func seed(t *testing.T, w World, m *machine.Machine) {
	const folder, incoming = "/var/lib/etcd", "/var/lib/verbund/incoming/"
	ctx := within(t)
	snap := snapshotOf(t, "/tides/one")
	q := protocol.SeedRequest{Unit: "etcd.service", Folder: folder, Name: "a", Members: map[string]string{"a": "https://127.0.0.1:2380", "b": "https://127.0.0.2:2380"}, Token: "again", Bump: 1000}
	send := func(b []byte) {
		t.Helper()
		q.Parts = nil
		for i := 0; len(b) > 0; i++ {
			n := min(len(b), 200<<10)
			p := incoming + "part-" + string(rune('a'+i))
			if _, err := m.Put(ctx, []protocol.File{{Path: p, Mode: 0o600, Content: b[:n]}}, nil); err != nil {
				t.Fatal(err)
			}
			q.Parts, b = append(q.Parts, p), b[n:]
		}
	}
	if _, err := m.Put(ctx, []protocol.File{{Path: folder + "/member/old", Mode: 0o600, Content: []byte("old")}}, nil); err != nil {
		t.Fatal(err)
	}
	damaged := append([]byte{}, snap...)
	damaged[len(damaged)/2] ^= 1
	send(damaged)
	if err := m.Seed(ctx, q); err == nil || !strings.Contains(err.Error(), "from the snapshot") {
		t.Errorf("a damaged one: %v", err)
	}
	if l, err := m.List(ctx, folder+"/member"); err != nil || len(l) != 1 || !strings.HasSuffix(l[0].Path, "old") {
		t.Errorf("the old data was touched: %v, %v", l, err)
	}
	send(snap)
	if err := m.Seed(ctx, q); err != nil {
		t.Fatal(err)
	}
	if l, err := m.List(ctx, incoming); err != nil || len(l) > 0 {
		t.Errorf("parts are left: %v, %v", l, err)
	}
	if b, err := m.Read(ctx, folder+"/member/old"); err != nil || len(b) > 0 {
		t.Errorf("the old data is still there: %v, %v", b, err)
	}
	parts, err := m.Rescue(ctx, protocol.RescueRequest{Unit: "etcd.service", Folder: folder, Name: "a", To: incoming})
	if err != nil || len(parts) == 0 {
		t.Fatalf("%v, %v", parts, err)
	}
	var back []byte
	for _, p := range parts {
		b, err := m.Read(ctx, p)
		if err != nil {
			t.Fatal(err)
		}
		back = append(back, b[p]...)
	}
	if len(back) < 1<<20 || !strings.Contains(string(back), "/tides/one") {
		t.Errorf("%d bytes came back", len(back))
	}
	if _, err := m.Put(ctx, nil, parts); err != nil {
		t.Fatal(err)
	}
}
