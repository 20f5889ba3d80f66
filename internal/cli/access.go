package cli

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"os/user"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"
	"k8s.io/client-go/tools/clientcmd"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"

	"verbund/internal/core/trust"
	"verbund/internal/engine"
	"verbund/internal/kube"
)

func (a *app) accessCmd() *cobra.Command {
	var merge, person string
	var login bool
	c := &cobra.Command{
		Use: "access", Short: "Give a person a kubeconfig, for a few hours", Args: noArgs,
		Long: `Prints a kubeconfig that points at the cluster's endpoint, for eight hours. It
names the endpoint as tls-server-name, so that it works where the name does not
resolve. With --merge it is put into an existing file: what is there stays, a copy
of the file is kept beside it, and the current context changes only if there is none.`,
		RunE: func(*cobra.Command, []string) error {
			s, err := a.open(false)
			if err != nil {
				return err
			}
			if login {
				b, err := s.LoginKey()
				if err != nil {
					return err
				}
				_, err = a.out.Write(b)
				return err
			}
			kc, until, err := access(s, person)
			if err != nil {
				return err
			}
			if merge == "" {
				b, err := clientcmd.Write(*kc)
				if err != nil {
					return err
				}
				_, err = a.out.Write(b)
				return err
			}
			copied, err := mergeEntry(merge, kc)
			if err != nil {
				return err
			}
			abs, err := filepath.Abs(merge)
			if err != nil {
				return err
			}
			if err := s.Store.SaveKubeconfig(abs, time.Now()); err != nil {
				return err
			}
			a.ui.say("context %s is in %s until %s", s.Decl.Name, merge, until.Local().Format("15:04"))
			if copied != "" {
				a.ui.say("the file as it was: %s", copied)
			}
			return nil
		},
	}
	who := "operator"
	if u, err := user.Current(); err == nil && u.Username != "" && u.Username != "root" {
		who = u.Username
	}
	c.Flags().StringVar(&merge, "merge", "", "put it into this kubeconfig file")
	c.Flags().BoolVar(&login, "login-key", false, "instead, the private key with which one logs in to the machines as root")
	c.Flags().StringVar(&person, "as", who, "the person's name")
	return c
}

// access signs a short-lived certificate for a person.
func access(s *engine.Session, person string) (*clientcmdapi.Config, time.Time, error) {
	c, err := s.Topology()
	if err != nil {
		return nil, time.Time{}, err
	}
	cert, key, ca, err := s.Person(trust.Access(person, []string{kube.Operators}, 8*time.Hour))
	if err != nil {
		return nil, time.Time{}, err
	}
	name := s.Decl.Name
	kc := clientcmdapi.NewConfig()
	kc.Clusters[name] = &clientcmdapi.Cluster{Server: fmt.Sprintf("https://%s:%d", c.Endpoint.Address, c.Endpoint.Port), TLSServerName: c.Endpoint.Name, CertificateAuthorityData: ca}
	kc.AuthInfos[name] = &clientcmdapi.AuthInfo{ClientCertificateData: cert, ClientKeyData: key}
	kc.Contexts[name] = &clientcmdapi.Context{Cluster: name, AuthInfo: name}
	kc.CurrentContext = name
	return kc, time.Now().Add(trust.AccessLife), nil
}

// mergeEntry puts a context into a kubeconfig file, which is replaced whole.
func mergeEntry(file string, kc *clientcmdapi.Config) (copied string, err error) {
	old := clientcmdapi.NewConfig()
	b, err := os.ReadFile(file)
	switch {
	case err == nil:
		if old, err = clientcmd.Load(b); err != nil {
			return "", fmt.Errorf("%s is not a kubeconfig and was left alone: %w", file, err)
		}
		copied = fmt.Sprintf("%s.%s.before", file, time.Now().UTC().Format("20060102-150405.000"))
		if err := writeWhole(copied, b, 0o600); err != nil {
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
	return copied, writeKubeconfig(file, old)
}

func writeKubeconfig(file string, kc *clientcmdapi.Config) error {
	b, err := clientcmd.Write(*kc)
	if err != nil {
		return err
	}
	return writeWhole(file, b, 0o600)
}

// removeEntry takes a cluster's context out of a kubeconfig file.
func removeEntry(file, name string) (bool, error) {
	b, err := os.ReadFile(file)
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
	if kc.Contexts[name] == nil && kc.Clusters[name] == nil && kc.AuthInfos[name] == nil {
		return false, nil
	}
	delete(kc.Contexts, name)
	delete(kc.Clusters, name)
	delete(kc.AuthInfos, name)
	if kc.CurrentContext == name {
		kc.CurrentContext = ""
	}
	return true, writeKubeconfig(file, kc)
}
