package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"

	"verbund/internal/store"
)

// FuzzPack reads the inside of archives from anybody.
func FuzzPack(f *testing.F) {
	f.Add([]byte{})
	f.Add(bytes.Repeat([]byte{0}, 1024))
	f.Add(append([]byte("../../x"), make([]byte, 600)...))
	f.Fuzz(func(t *testing.T, b []byte) {
		files, err := readPack(bytes.NewReader(b))
		n := 0
		for _, text := range files {
			n += len(text)
		}
		if err == nil && n > len(b) {
			t.Errorf("%d bytes came out of %d", n, len(b))
		}
	})
}

// FuzzKubeconfig merges into files of any content: what is no kubeconfig, or speaks of
// another cluster of the name, stays as it is.
func FuzzKubeconfig(f *testing.F) {
	f.Add([]byte("apiVersion: v1\nkind: Config\nclusters: [{name: tidewatch, cluster: {server: x}}]\n"))
	f.Add([]byte("apiVersion: v1\nkind: Config\ncontexts: [{name: o@tidewatch, context: {cluster: y}}]\n"))
	f.Add([]byte("clusters: null\n"))
	f.Add([]byte("{}"))
	f.Add([]byte("\x00"))
	f.Fuzz(func(t *testing.T, b []byte) {
		file := filepath.Join(t.TempDir(), "kubeconfig")
		if err := os.WriteFile(file, b, 0o600); err != nil {
			t.Fatal(err)
		}
		kc := clientcmdapi.NewConfig()
		kc.Clusters["tidewatch"] = &clientcmdapi.Cluster{Server: "https://127.80.0.10:6443"}
		kc.Contexts["o@tidewatch"] = &clientcmdapi.Context{Cluster: "tidewatch", AuthInfo: "o@tidewatch"}
		_, err := mergeEntry(file, kc, func(old *clientcmdapi.Config) error { return foreignEntry(file, old, kc, &store.Trust{}) })
		if now, rerr := os.ReadFile(file); err != nil && (rerr != nil || !bytes.Equal(now, b)) {
			t.Errorf("refused with %v, and changed: %v\n%s", err, rerr, now)
		}
		removeEntry(file, "tidewatch", &store.Trust{})
	})
}
