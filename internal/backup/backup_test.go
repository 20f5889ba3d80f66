package backup_test

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"errors"
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
	if err := backup.Write(&b, id.Recipient(), m, []byte("kind: EncryptionConfiguration\n"), bytes.NewReader(snap)); err != nil {
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
	return strings.Join([]string{r.Manifest.Cluster, r.Manifest.Kubernetes, r.Manifest.Taken.Format(time.RFC3339), string(r.Secrets), b.String()}, "|"), nil
}

func TestThereAndBack(t *testing.T) {
	id, snap := identity(t), snapshot(strings.Repeat("tides ", 100_000))
	got, err := check(written(t, id, snap), id)
	if want := "tidewatch|v1.36.3|2026-11-23T08:00:00Z|kind: EncryptionConfiguration\n|" + string(snap); err != nil || got != want {
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
	} {
		if _, err := check(archive(t, id, x.parts...), id); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%.60v: %v", x.parts, err)
		}
	}
	// A stream that breaks off makes no backup.
	m := backup.Manifest{Bytes: int64(len(snap)) + 1}
	if err := backup.Write(io.Discard, id.Recipient(), m, nil, bytes.NewReader(snap)); err == nil || !strings.Contains(err.Error(), "ended after 37 of 38 bytes") {
		t.Errorf("a short snapshot: %v", err)
	}
}
