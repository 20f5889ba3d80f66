package kubeconfig

import (
	"bytes"
	"encoding/pem"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"k8s.io/client-go/tools/clientcmd"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"

	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/engine/session"
	"verbund/internal/store"
	"verbund/internal/whole"
)

// Users are the users of a kubeconfig who come to a cluster, by any context.
func Users(kc *clientcmdapi.Config, cluster string) []string {
	var out []string
	for _, c := range kc.Contexts {
		if c.Cluster == cluster && kc.AuthInfos[c.AuthInfo] != nil && !slices.Contains(out, c.AuthInfo) {
			out = append(out, c.AuthInfo)
		}
	}
	slices.Sort(out)
	return out
}

// MayMerge looks whether access may go into a file, before it is given; what it returns
// looks again before the file is written.
func MayMerge(s *session.Session, file string, kc *clientcmdapi.Config) (func(*clientcmdapi.Config) error, error) {
	t, err := s.Trust()
	if err != nil {
		return nil, err
	}
	may := func(old *clientcmdapi.Config) error { return foreignEntry(file, old, kc, t) }
	old, err := clientcmd.LoadFromFile(file)
	if err != nil {
		return may, nil // what is wrong with it is said when it is written
	}
	return may, may(old)
}

// isOurs says whether a cluster's entry in a kubeconfig is of this cluster: it trusts
// one of the authorities that this cluster has or had.
func isOurs(entry *clientcmdapi.Cluster, t *store.Trust) bool {
	for rest := entry.CertificateAuthorityData; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			return false
		}
		for id, c := range t.Certs {
			ours, _ := pem.Decode(c)
			if a, _, _ := strings.Cut(id, "."); a == string(trust.Cluster) && ours != nil && bytes.Equal(ours.Bytes, block.Bytes) {
				return true
			}
		}
	}
}

// Foreign is an entry of another cluster, or a context of somebody else, in the way: it is
// left alone.
type Foreign struct{ err error }

func (f *Foreign) Error() string { return f.err.Error() }

// foreignEntry refuses to write over what a kubeconfig says of another cluster of the same
// name.
func foreignEntry(file string, old, kc *clientcmdapi.Config, t *store.Trust) error {
	for name := range kc.Clusters {
		if e := old.Clusters[name]; e != nil && !isOurs(e, t) {
			return &Foreign{fmt.Errorf("%s has an entry %s already, of another cluster (%s); it was left alone. Merge into another file, or take that entry out if its cluster is gone: kubectl config delete-cluster %s --kubeconfig %s", file, name, e.Server, name, file)}
		}
	}
	for name, c := range kc.Contexts {
		if e := old.Contexts[name]; e != nil && e.Cluster != c.Cluster {
			return &Foreign{fmt.Errorf("%s has a context %s already, for cluster %s; it was left alone. Merge into another file, or rename that context", file, name, e.Cluster)}
		}
	}
	return nil
}

// Merge puts a context into a kubeconfig file, which is replaced whole; may is asked
// before, with what is there.
func Merge(file string, kc *clientcmdapi.Config, may func(old *clientcmdapi.Config) error) (copied string, err error) {
	old := clientcmdapi.NewConfig()
	b, err := whole.Read(file)
	switch {
	case err == nil:
		if old, err = clientcmd.Load(b); err != nil {
			return "", fmt.Errorf("%s is not a kubeconfig and was left alone: %w", file, err)
		}
		if err := may(old); err != nil {
			return "", err
		}
		copied = fmt.Sprintf("%s.%s.before", file, time.Now().UTC().Format("20060102-150405.000"))
		if err := whole.Write(copied, b, 0o600); err != nil {
			return "", err
		}
	case !errors.Is(err, os.ErrNotExist):
		return "", err
	}
	maps.Copy(old.Clusters, kc.Clusters)
	maps.Copy(old.AuthInfos, kc.AuthInfos)
	maps.Copy(old.Contexts, kc.Contexts)
	if old.CurrentContext == "" {
		old.CurrentContext = kc.CurrentContext
	}
	return copied, write(file, old)
}

func write(file string, kc *clientcmdapi.Config) error {
	b, err := clientcmd.Write(*kc)
	if err != nil {
		return err
	}
	return whole.Write(file, b, 0o600)
}

// Merged changes the kubeconfig files into which access was merged; change
// says what it did to one, or nothing when it left it alone.
func Merged(s *session.Session, say func(format string, args ...any), change func(*clientcmdapi.Config) (said string, err error)) error {
	st, err := s.Store.Read()
	if err != nil {
		return err
	}
	t, err := s.Trust()
	if err != nil {
		return err
	}
	for _, f := range slices.Sorted(maps.Keys(st.Kubeconfigs)) {
		b, err := whole.Read(f)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		kc, err := clientcmd.Load(b)
		if err != nil {
			say("%s is not a kubeconfig any more and was left alone: %v", f, err)
			continue
		}
		if e := kc.Clusters[s.Decl.Name]; e != nil && !isOurs(e, t) {
			say("the entry %s in %s is of another cluster by now, and was left alone", s.Decl.Name, f)
			continue
		}
		said, err := change(kc)
		if err != nil {
			return err
		}
		if said == "" {
			continue
		}
		if err := write(f, kc); err != nil {
			return err
		}
		say("kubeconfig %s %s", filepath.Base(f), said)
	}
	return nil
}

// Remove takes a cluster's context out of a kubeconfig file, if the entry is of the
// cluster that has this trust.
func Remove(file, name string, t *store.Trust) (bool, error) {
	b, err := whole.Read(file)
	if errors.Is(err, os.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	kc, err := clientcmd.Load(b)
	if err != nil {
		return false, err
	}
	if e := kc.Clusters[name]; e == nil || !isOurs(e, t) {
		return false, nil
	}
	users := Users(kc, name)
	for n, c := range kc.Contexts {
		if c.Cluster != name {
			continue
		}
		delete(kc.Contexts, n)
		if kc.CurrentContext == n {
			kc.CurrentContext = ""
		}
	}
	for _, u := range users {
		used := false
		for _, c := range kc.Contexts {
			used = used || c.AuthInfo == u
		}
		if !used {
			delete(kc.AuthInfos, u)
		}
	}
	delete(kc.Clusters, name)
	return true, write(file, kc)
}

// FollowEndpoint points the kubeconfig files into which access was merged to
// where the endpoint is now, and, once every API server has a certificate with
// it, to its name.
func FollowEndpoint(s *session.Session, say func(format string, args ...any), c *topology.Cluster, named bool) error {
	server := fmt.Sprintf("https://%s:%d", c.Endpoint.Address, c.Endpoint.Port)
	return Merged(s, say, func(kc *clientcmdapi.Config) (string, error) {
		cl := kc.Clusters[c.Name]
		if cl == nil || cl.Server == server && (!named || cl.TLSServerName == c.Endpoint.Name) {
			return "", nil
		}
		said := "points to " + server
		if cl.Server = server; named && cl.TLSServerName != c.Endpoint.Name {
			cl.TLSServerName = c.Endpoint.Name
			said += " as " + c.Endpoint.Name
		}
		return said + " now", nil
	})
}
