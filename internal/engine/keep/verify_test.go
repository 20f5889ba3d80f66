package keep

import (
	"errors"
	"fmt"
	"strings"
	"syscall"
	"testing"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"

	"verbund/internal/datastore/datastoretest"
	"verbund/internal/engine/session"
	"verbund/internal/engine/sessiontest"
)

// held is a snapshot of a datastore that holds so many objects, as a member hands it out.
func held(t *testing.T, s *session.Session, objects int) *Plain {
	t.Helper()
	cl, err := clientv3.New(clientv3.Config{Endpoints: []string{datastoretest.Alone(t)}, Logger: zap.NewNop()})
	if err != nil {
		t.Fatal(err)
	}
	defer cl.Close()
	for i := range objects {
		if _, err := cl.Put(t.Context(), fmt.Sprintf("/registry/configmaps/default/c%d", i), "{}"); err != nil {
			t.Fatal(err)
		}
	}
	r, err := cl.Snapshot(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	p, err := Read(s, r)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Close() })
	return p
}

// A backup is read to its end, and a member is raised from it only where that is asked for; what
// was found well is remembered. One of another revision than its manifest names is not well.
func TestVerify(t *testing.T) {
	s := life(t, t.TempDir(), t.TempDir())
	snap := held(t, s, 3)
	f, err := Keep(s, sessiontest.Cluster(t, 0), Reason{Name: "one", Why: "asked for", Version: "v1.37.2"}, snap)
	if err != nil {
		t.Fatal(err)
	}
	before := time.Now()
	v, err := Verify(t.Context(), s, f, false)
	if err != nil || v.Raised != nil || len(v.Contents.Keys) != 3 || f.Note.Verified.Before(before.Add(-time.Second)) || !f.Note.Raised.IsZero() {
		t.Errorf("read: %+v, %+v, %v", v, f.Note, err)
	}
	if v, err = Verify(t.Context(), s, f, true); err != nil || v.Raised == nil || len(v.Raised.Keys) != 3 || f.Note.Raised.IsZero() {
		t.Errorf("raised: %+v, %+v, %v", v, f.Note, err)
	}
	if notes := sessiontest.Known(t, s).Backups; notes[f.Name].Raised.IsZero() {
		t.Errorf("remembered is %+v", notes)
	}

	// Of a snapshot whose revision nobody noted nothing is held against it.
	is := snap.Contents.Revision
	for revision, want := range map[int64]string{0: "", is + 1: fmt.Sprintf("is of revision %d, and its manifest says %d", is, is+1)} {
		snap.Contents.Revision = revision
		f, err := Keep(s, sessiontest.Cluster(t, 0), Reason{Name: fmt.Sprint("at-", revision), Why: "asked for", Version: "v1.37.2"}, snap)
		if err != nil {
			t.Fatal(err)
		}
		switch _, err := Verify(t.Context(), s, f, false); {
		case want == "" && err != nil, want != "" && (err == nil || !strings.Contains(err.Error(), want)):
			t.Errorf("manifest of revision %d: %v", revision, err)
		}
	}
}

// Where a file finds no room, what makes some is said; other errors stay as they are.
func TestNoRoom(t *testing.T) {
	s := sessiontest.Session(t)
	full := fmt.Errorf("writing: %w", syscall.ENOSPC)
	if err := noRoom(s, full); !errors.Is(err, syscall.ENOSPC) || !strings.Contains(err.Error(), "verbund backup drop") {
		t.Errorf("a full disk: %v", err)
	}
	other := errors.New("another")
	if err := noRoom(s, other); err != other {
		t.Errorf("another error: %v", err)
	}
	if err := noRoom(s, nil); err != nil {
		t.Errorf("none: %v", err)
	}
}
