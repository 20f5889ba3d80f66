package backup_test

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"filippo.io/age"

	"verbund/internal/backup"
)

// snapshot is what etcd hands out: content with its sum behind it.
func snapshot(content string) []byte {
	sum := sha256.Sum256([]byte(content))
	return append([]byte(content), sum[:]...)
}

func identity(t *testing.T) *age.X25519Identity {
	t.Helper()
	id, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	return id
}

func written(t *testing.T, id *age.X25519Identity, snap []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	m := backup.Manifest{Cluster: "tidewatch", Taken: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC), Kubernetes: "v1.36.3", Bytes: int64(len(snap))}
	files := map[string][]byte{"tidewatch.verbund.yaml": []byte("name: tidewatch\n"), "store.key": []byte("key")}
	if err := backup.Write(&b, []age.Recipient{id.Recipient()}, m, []byte("kind: EncryptionConfiguration\n"), files, bytes.NewReader(snap)); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// check reads all of a backup.
func check(file []byte, ids ...age.Identity) (got string, err error) {
	r, err := backup.Open(bytes.NewReader(file), ids...)
	if err != nil {
		return "", err
	}
	var b bytes.Buffer
	if err := r.Verify(&b); err != nil {
		return "", err
	}
	return strings.Join([]string{r.Manifest.Cluster, r.Manifest.Kubernetes, r.Manifest.Taken.Format(time.RFC3339), string(r.Secrets), string(r.Files["tidewatch.verbund.yaml"]) + string(r.Files["store.key"]), b.String()}, "|"), nil
}

func TestThereAndBack(t *testing.T) {
	id, snap := identity(t), snapshot(strings.Repeat("tides ", 100_000))
	got, err := check(written(t, id, snap), id)
	if want := "tidewatch|v1.36.3|2026-11-23T08:00:00Z|kind: EncryptionConfiguration\n|name: tidewatch\nkey|" + string(snap); err != nil || got != want {
		t.Errorf("%d bytes, %v; wanted %d", len(got), err, len(want))
	}
}

// archive is a closed tar of any parts.
func archive(t *testing.T, id *age.X25519Identity, parts ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	enc, err := age.Encrypt(&b, id.Recipient())
	if err != nil {
		t.Fatal(err)
	}
	w := tar.NewWriter(enc)
	for i := 0; i < len(parts); i += 2 {
		if err := w.WriteHeader(&tar.Header{Name: parts[i], Size: int64(len(parts[i+1]))}); err != nil {
			t.Fatal(err)
		}
		io.WriteString(w, parts[i+1])
	}
	if err := errors.Join(w.Close(), enc.Close()); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// firstOnes are the parts of a backup of the first schema.
func firstOnes(t *testing.T, snap []byte) []string {
	t.Helper()
	manifest, secrets := `{"schema":"verbund-backup/1","cluster":"lampwright","bytes":37}`, "kind: EncryptionConfiguration\n"
	sum := func(b string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(b))) }
	return []string{"manifest.json", manifest, "secrets.yaml", secrets, "snapshot.db", string(snap),
		"digests.json", fmt.Sprintf(`{"manifest.json":%q,"secrets.yaml":%q,"snapshot.db":%q}`, sum(manifest), sum(secrets), sum(string(snap)))}
}

// Whatever is wrong with a file is noticed before it counts.
func TestDamaged(t *testing.T) {
	id, snap := identity(t), snapshot("tides")
	good := written(t, id, snap)
	flipped := bytes.Clone(good)
	flipped[len(flipped)-9] ^= 1
	for _, x := range []struct {
		name string
		file []byte
		by   age.Identity
		want string
	}{
		{"empty", nil, id, "opening the backup"},
		{"cut", good[:len(good)-200], id, ""},
		{"a bit", flipped, id, ""},
		{"of somebody else", good, identity(t), "did not match any of the recipients"},
		{"not as etcd gave it", written(t, id, append([]byte("eddies"), snap[5:]...)), id, "does not have the sum that etcd gave it"},
		{"too short for a sum", written(t, id, []byte("x")), id, "does not have the sum that etcd gave it"},
	} {
		if got, err := check(x.file, x.by); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %q, %v", x.name, got, err)
		}
	}
	// Parts that are not what they were, in an archive that was closed all the same.
	text := `{"schema":"verbund-backup/1","bytes":37}`
	for _, x := range []struct {
		parts []string // names and contents
		want  string
	}{
		{[]string{"manifest.json", `{"schema":"verbund-backup/9"}`}, "schema is \"verbund-backup/9\""},
		{[]string{"snapshot.db", "x"}, `has "snapshot.db" where its manifest.json belongs`},
		{[]string{"manifest.json", text, "secrets.yaml", strings.Repeat("x", 1<<20+1)}, "more than any has"},
		{[]string{"manifest.json", text, "secrets.yaml", "", "snapshot.db", "x"}, "has 1 bytes, and its manifest says 37"},
		{[]string{"manifest.json", text, "secrets.yaml", "", "snapshot.db", string(snap)}, "ends before its digests.json"},
		{[]string{"manifest.json", text, "secrets.yaml", "", "snapshot.db", string(snap), "digests.json", "{}"}, "manifest.json is not as it was written"},
		{[]string{"manifest.json", `{"schema":"verbund-backup/2","files":["../x"]}`, "secrets.yaml", ""}, "which is no name of one"},
		{[]string{"manifest.json", `{"schema":"verbund-backup/2","files":["x"],"bytes":37}`, "secrets.yaml", "", "snapshot.db", string(snap)}, `where its files/x belongs`},
	} {
		if _, err := check(archive(t, id, x.parts...), id); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%.60v: %v", x.parts, err)
		}
	}
	// One of the first schema, which had no files, is read.
	if got, err := check(archive(t, id, firstOnes(t, snap)...), id); err != nil || !strings.HasPrefix(got, "lampwright|") {
		t.Errorf("a backup of the first schema: %q, %v", got, err)
	}
	// A stream that breaks off makes no backup.
	m := backup.Manifest{Bytes: int64(len(snap)) + 1}
	if err := backup.Write(io.Discard, []age.Recipient{id.Recipient()}, m, nil, nil, bytes.NewReader(snap)); err == nil || !strings.Contains(err.Error(), "ended after 37 of 38 bytes") {
		t.Errorf("a short snapshot: %v", err)
	}
}

// What a machine put beside its snapshot, and could not open, is there for whoever can.
func TestSealed(t *testing.T) {
	id, other, snap := identity(t), identity(t), snapshot(strings.Repeat("tides ", 100_000))
	var rest bytes.Buffer
	if err := backup.Seal(&rest, []age.Recipient{id.Recipient()}, map[string][]byte{"store.key": []byte("key"), "tidewatch.verbund.yaml": []byte("name: tidewatch\n")}); err != nil {
		t.Fatal(err)
	}
	if bytes.Contains(rest.Bytes(), []byte("tidewatch")) {
		t.Error("what is sealed can be read")
	}
	by := func(files map[string][]byte, to ...age.Recipient) []byte {
		t.Helper()
		var b bytes.Buffer
		m := backup.Manifest{Cluster: "tidewatch", Taken: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC), Kubernetes: "v1.36.3", Bytes: int64(len(snap)), Machine: "tidewatch-control-1"}
		if err := backup.Write(&b, to, m, []byte("kind: EncryptionConfiguration\n"), files, bytes.NewReader(snap)); err != nil {
			t.Fatal(err)
		}
		return b.Bytes()
	}
	want := "tidewatch|v1.36.3|2026-11-23T08:00:00Z|kind: EncryptionConfiguration\n|name: tidewatch\nkey|" + string(snap)
	file := by(map[string][]byte{backup.SealedFile: rest.Bytes()}, id.Recipient())
	if got, err := check(file, id); err != nil || got != want {
		t.Errorf("%q, %v", got, err)
	}
	// Written anew for somebody else, all of it opens for them.
	r, err := backup.Open(bytes.NewReader(file), id)
	if err != nil {
		t.Fatal(err)
	}
	var anew bytes.Buffer
	if err := backup.Rewrite(&anew, []age.Recipient{other.Recipient()}, r); err != nil {
		t.Fatal(err)
	}
	if got, err := check(anew.Bytes(), other); err != nil || got != want {
		t.Errorf("written anew: %q, %v", got, err)
	}
	// One that is damaged behind its beginning is not written anew.
	cut := bytes.Clone(file)
	cut[len(cut)-20] ^= 1
	if r, err = backup.Open(bytes.NewReader(cut), id); err != nil {
		t.Fatal(err)
	}
	if err := backup.Rewrite(io.Discard, []age.Recipient{other.Recipient()}, r); err == nil {
		t.Error("a damaged backup was written anew")
	}
	for name, x := range map[string]struct {
		file []byte
		id   age.Identity
		want string
	}{
		"sealed for others":   {by(map[string][]byte{backup.SealedFile: rest.Bytes()}, other.Recipient()), other, "opening the backup's rest.age"},
		"sealed and cut":      {by(map[string][]byte{backup.SealedFile: rest.Bytes()[:rest.Len()-9]}, id.Recipient()), id, "the backup's rest.age"},
		"one name twice":      {by(map[string][]byte{backup.SealedFile: rest.Bytes(), "store.key": nil}, id.Recipient()), id, `"store.key", which does not belong there`},
		"a name that is none": {by(map[string][]byte{backup.SealedFile: sealed(t, id, "../store.key")}, id.Recipient()), id, `"../store.key", which does not belong there`},
	} {
		if _, err := check(x.file, x.id); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func sealed(t *testing.T, id *age.X25519Identity, name string) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := backup.Seal(&b, []age.Recipient{id.Recipient()}, map[string][]byte{name: nil}); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestFileName(t *testing.T) {
	at := time.Date(2026, 11, 23, 8, 0, 5, 0, time.UTC)
	m := backup.Manifest{Taken: at, Kubernetes: "v1.36.3"}
	for word, want := range map[string]string{"": "20261123-080005-v1.36.3.backup.age", "control-2": "20261123-080005-v1.36.3-control-2.backup.age"} {
		got := backup.FileName(m, word)
		if taken, ok := backup.TakenAt(got); got != want || !ok || !taken.Equal(at) {
			t.Errorf("%q: %s, %v, %v", word, got, taken, ok)
		}
	}
	for _, n := range []string{"rest.age", "kept.json", "20261123-0800", "20261323-080005-v1.36.3.backup.age", "20261123-080005-v1.36.3.backup.age.part"} {
		if _, ok := backup.TakenAt(n); ok {
			t.Errorf("%s counts as a backup", n)
		}
	}
}
