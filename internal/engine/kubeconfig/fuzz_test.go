package kubeconfig

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"

	"verbund/internal/store"
)

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
		_, err := Merge(file, kc, func(old *clientcmdapi.Config) error { return foreignEntry(file, old, kc, &store.Trust{}) })
		if now, rerr := os.ReadFile(file); err != nil && (rerr != nil || !bytes.Equal(now, b)) {
			t.Errorf("refused with %v, and changed: %v\n%s", err, rerr, now)
		}
		Remove(file, "tidewatch", &store.Trust{})
	})
}
