package cli_test

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"

	"verbund/internal/datastore/datastoretest"
	"verbund/internal/store"
	"verbund/internal/whole"
)

// Two people work on one cluster, whose memory lies in an etcd: each with a certificate of their
// own. What is remembered is one, with one lock and one journal, in which stands who did what; it
// comes back to the folder, and never lies in the cluster itself.
func TestSharedMemory(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.1")
	a := datastoretest.NewAuthority(t)
	cfg := datastoretest.Config(t)
	a.Serve(cfg)
	endpoint := datastoretest.Endpoint(datastoretest.Start(t, cfg).Config())
	place := "etcd://" + strings.TrimPrefix(endpoint, "https://") + "/boards"
	cert, key := a.Pair("mara")
	as := []string{"--ca", a.File, "--cert", cert, "--key", key}

	w.fails(1, []string{"has no store yet"}, append([]string{"store", "move", place}, as...)...)
	w.ok("converge", "--yes")
	w.fails(2, []string{"lies in its folder already"}, "store", "move", "folder", "--yes")
	w.fails(2, []string{"lies in its folder"}, "store", "reach", "--cert", cert, "--key", key)
	w.fails(2, []string{"is no place of a memory"}, "store", "move", "elsewhere", "--yes")
	w.fails(2, []string{"needs its key"}, "store", "move", place, "--ca", a.File, "--cert", cert, "--yes")
	w.fails(1, []string{"certificate", "nothing was changed there"}, "store", "move", place, "--ca", datastoretest.NewAuthority(t).File, "--cert", cert, "--key", key, "--yes")
	// Nobody is asked here, and nothing is written before somebody has said yes.
	w.fails(2, []string{"--yes"}, append([]string{"store", "move", place}, as...)...)
	control := w.machines()["tidewatch-control-1"].Address
	w.fails(1, []string{"is machine tidewatch-control-1 of cluster tidewatch itself"}, append([]string{"store", "move", "etcd://" + control + "/boards", "--yes"}, ownCertificate(t, w)...)...)
	if _, err := os.Stat(w.path("tidewatch" + store.PlaceEnding)); !errors.Is(err, os.ErrNotExist) {
		t.Fatal("it is written down though nothing was moved")
	}

	w.fails(0, []string{"lies at " + place, "tidewatch.memory.yaml", "store reach"}, append([]string{"store", "move", place, "--yes"}, as...)...)
	w.fails(0, []string{place, "asked as    mara", "opens       yes"}, "store", "show")
	if left := whole.Named(w.path(".verbund/tidewatch"), ".db"); len(left) > 0 {
		t.Errorf("left in the folder: %v", left)
	}
	w.fails(0, []string{"lies at " + place}, append([]string{"store", "move", place, "--yes"}, as...)...)

	// A colleague has what is in version control, and keys of his own.
	tomas := &world{TB: t, dir: w.dir, keys: t.TempDir()}
	own, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	public := filepath.Join(w.keys, "tomas.pub")
	if err := errors.Join(os.WriteFile(filepath.Join(tomas.keys, "own.key"), []byte(own.String()), 0o600), os.WriteFile(public, []byte("# of tomas\n"+own.Recipient().String()+"\n"), 0o600)); err != nil {
		t.Fatal(err)
	}
	tomas.fails(1, []string{"certificate", place}, "status")
	tcert, tkey := a.Pair("tomas")
	tomas.fails(0, []string{"as tomas"}, "store", "reach", "--cert", tcert, "--key", tkey)
	tomas.fails(1, []string{"cannot be opened"}, "access", "--login-key")
	w.fails(1, []string{"opens nothing"}, "store", "admit", "tomas", "elsewhere")
	w.fails(0, []string{"tomas opens the store"}, "store", "admit", "tomas", public)
	w.fails(0, []string{"tomas", "age key", own.Recipient().String(), "key file"}, "store", "people")
	tomas.fails(0, []string{"and with the keys of tomas"}, "backup", "take")
	tomas.well("v1.37.1")

	// While one of them works, the other one is told who does.
	mine := store.InEtcd(store.Server{Endpoints: []string{endpoint}, Prefix: "/boards", TLS: a.Client("mara"), Who: "mara"}, w.dir, "tidewatch", &store.Keys{Dir: w.keys})
	defer mine.Close()
	release, err := mine.Lock("upgrade")
	if err != nil {
		t.Fatal(err)
	}
	tomas.fails(4, []string{"verbund upgrade, process", "of mara on", "frees itself"}, "converge", "--yes")
	tomas.fails(3, []string{"verbund upgrade", "of mara on"}, "status")
	release()
	tomas.ok("upgrade", "v1.37.2", "--yes")
	w.well("v1.37.2")
	var es []store.Entry
	if err := json.Unmarshal([]byte(w.ok("history", "-o", "json", w.lastRun())), &es); err != nil || len(es) == 0 || es[0].Who != "tomas" {
		t.Errorf("%+v, %v", es, err)
	}
	w.fails(0, []string{"upgrade v1.37.2", "tomas"}, "history")
	w.ok("store", "show", "--check")

	w.fails(1, []string{"nobody is admitted"}, "store", "dismiss", "pia")
	w.fails(0, []string{"no more", "verbund trust replace cluster-authority --now", "secrets-encryption", "logs in to the machines"}, "store", "dismiss", "tomas")
	tomas.fails(1, []string{"cannot be opened"}, "access", "--login-key")
	w.fails(0, []string{"store admit tomas", "mara", "store dismiss tomas"}, "history")
	tomas.fails(0, []string{"lies at", "store.db", "tidewatch.memory.yaml is gone"}, "store", "move", "folder", "--yes")
	w.fails(0, []string{"nothing to do"}, "converge", "--yes")
	w.fails(0, []string{"store.db", "opens       yes"}, "store", "show")
	w.fails(0, []string{"upgrade v1.37.2", "tomas"}, "history")
}

// ownCertificate are the flags by which the datastore of a cluster lets its own tool in.
func ownCertificate(t *testing.T, w *world) []string {
	t.Helper()
	tr, err := store.At(w.dir, "tidewatch", &store.Keys{Dir: w.keys}).Trust()
	if err != nil {
		t.Fatal(err)
	}
	out, dir := []string{}, t.TempDir()
	for flag, b := range map[string][]byte{"ca": tr.Certs["datastore-authority"], "cert": tr.Certs["tool/datastore"], "key": tr.Keys["tool/datastore"]} {
		f := filepath.Join(dir, flag)
		if err := os.WriteFile(f, b, 0o600); err != nil {
			t.Fatal(err)
		}
		out = append(out, "--"+flag, f)
	}
	return out
}
