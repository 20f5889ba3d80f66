package datastore

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// What is read from a snapshot is what the member holds that gave it, and what one holds that
// is raised from it; deleted keys are not there, and one that was cut or altered is refused.
func TestSnapshotContents(t *testing.T) {
	client, peer := address(t), address(t)
	e := member(t, "a", "", client, peer)
	defer e.Close()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	c := New([]string{client.String()}, nil)
	cl, err := c.open(ctx, client.String())
	if err != nil {
		t.Fatal(err)
	}
	defer cl.Close()
	for i := range 20 {
		_, err = cl.Put(ctx, fmt.Sprintf("/registry/core/pods/tides/p%d", i), "x")
		if _, derr := cl.Put(ctx, fmt.Sprintf("/registry/deployments/tides/d%d", i), "x"); err == nil {
			err = derr
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	_, err = cl.Delete(ctx, "/registry/core/pods/tides/p3")
	_, perr := cl.Put(ctx, "/registry/core/pods/tides/p4", "changed")
	_, oerr := cl.Put(ctx, "/else", "x")
	if err := errors.Join(err, perr, oerr); err != nil {
		t.Fatal(err)
	}
	want, err := c.Objects(ctx)
	if err != nil || len(want.Keys) != 39 || want.ByKind()["pods"] != 19 || want.ByKind()["deployments"] != 20 {
		t.Fatalf("%d keys, %v, %v", len(want.Keys), want.ByKind(), err)
	}
	file := filepath.Join(t.TempDir(), "s.db")
	f, err := os.Create(file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := c.Snapshot(ctx, func(_ int64, r io.Reader) error { _, err := io.Copy(f, r); return err }); err != nil {
		t.Fatal(err)
	}
	got, err := Read(f)
	if err != nil || got.Revision != want.Revision || !maps.Equal(got.Keys, want.Keys) {
		t.Errorf("read: revision %d of %d, %d keys, %v", got.Revision, want.Revision, len(got.Keys), err)
	}
	if got, err = Raise(ctx, file); err != nil || got.Revision != want.Revision || !maps.Equal(got.Keys, want.Keys) {
		t.Errorf("raised: %+v, %v", got, err)
	}

	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	altered := append([]byte{}, b...)
	altered[len(b)/2] ^= 1
	for name, wrong := range map[string][]byte{"altered": altered, "cut": b[:len(b)-100], "nothing": nil} {
		if err := os.WriteFile(file, wrong, 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := Raise(ctx, file); err == nil {
			t.Errorf("a snapshot that is %s is raised", name)
		}
		// Reading it is not to bring the program down, whatever stands there.
		for at := 0; at < len(wrong); at += len(wrong)/40 + 1 {
			spoilt := append([]byte{}, wrong...)
			for i := at; i < min(at+512, len(spoilt)); i++ {
				spoilt[i] ^= 0x5a
			}
			if err := os.WriteFile(file, spoilt[:len(spoilt)-at/2], 0o600); err != nil {
				t.Fatal(err)
			}
			if f, err := os.Open(file); err == nil {
				Read(f)
				f.Close()
			}
		}
	}
}

func TestKind(t *testing.T) {
	for key, want := range map[string]string{
		"/registry/pods/tides/a": "pods", "/registry/core/pods/tides/a": "pods", "/registry/minions/n": "nodes", "/registry/services/specs/tides/a": "services", "/registry/apps/deployments/tides/a": "deployments",
		"/registry/rbac.authorization.k8s.io/roles/a/b": "roles", "/registry/clusterroles/a": "clusterroles", "/registry/leases/kube-node-lease/a": "", "/registry/coordination.k8s.io/leases/a/b": "",
		"/registry/core/events/a/b": "", "/registry/ranges/ports/30080": "", "/registry/health": "", "/else/a/b": "", "/registry/tides.seamark.test/gauges/a/b": "gauges",
	} {
		if got := Kind(key); got != want {
			t.Errorf("%s is of kind %q, wanted %q", key, got, want)
		}
	}
}
