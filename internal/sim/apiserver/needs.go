package apiserver

import (
	"slices"

	corev1 "k8s.io/api/core/v1"
)

// needs are the objects of its namespace that a pod refers to. One function finds them for
// everything: what a kubelet may read, what it may ask a token for, and what a pod that it makes
// itself must not have.
type needs struct {
	secrets, configMaps, accounts, claims []string
}

// of is what a pod needs of one kind, by its plural.
func (n needs) of(plural string) []string {
	switch plural {
	case "secrets":
		return n.secrets
	case "configmaps":
		return n.configMaps
	case "serviceaccounts":
		return n.accounts
	case "persistentvolumeclaims":
		return n.claims
	}
	return nil
}

func (n needs) any() bool {
	return len(n.secrets)+len(n.configMaps)+len(n.accounts)+len(n.claims) > 0
}

// needsOf walks through a pod as the node authorizer of Kubernetes does: volumes, also projected
// ones, what fills the environment of containers of every kind, what pulls images, and its account.
func needsOf(p *corev1.PodSpec) needs {
	var n needs
	secret := func(name string) {
		if name != "" {
			n.secrets = append(n.secrets, name)
		}
	}
	local := func(r *corev1.LocalObjectReference) {
		if r != nil {
			secret(r.Name)
		}
	}
	if p.ServiceAccountName != "" {
		n.accounts = append(n.accounts, p.ServiceAccountName)
	}
	for _, r := range p.ImagePullSecrets {
		secret(r.Name)
	}
	for _, v := range p.Volumes {
		switch {
		case v.Secret != nil:
			secret(v.Secret.SecretName)
		case v.ConfigMap != nil:
			n.configMaps = append(n.configMaps, v.ConfigMap.Name)
		case v.PersistentVolumeClaim != nil:
			n.claims = append(n.claims, v.PersistentVolumeClaim.ClaimName)
		case v.Projected != nil:
			for _, s := range v.Projected.Sources {
				if s.Secret != nil {
					secret(s.Secret.Name)
				}
				if s.ConfigMap != nil {
					n.configMaps = append(n.configMaps, s.ConfigMap.Name)
				}
			}
		case v.CSI != nil:
			local(v.CSI.NodePublishSecretRef)
		case v.AzureFile != nil:
			secret(v.AzureFile.SecretName)
		case v.CephFS != nil:
			local(v.CephFS.SecretRef)
		case v.Cinder != nil:
			local(v.Cinder.SecretRef)
		case v.FlexVolume != nil:
			local(v.FlexVolume.SecretRef)
		case v.ISCSI != nil:
			local(v.ISCSI.SecretRef)
		case v.RBD != nil:
			local(v.RBD.SecretRef)
		case v.ScaleIO != nil:
			local(v.ScaleIO.SecretRef)
		case v.StorageOS != nil:
			local(v.StorageOS.SecretRef)
		}
	}
	for _, c := range containersOf(p) {
		for _, e := range c.EnvFrom {
			if e.SecretRef != nil {
				secret(e.SecretRef.Name)
			}
			if e.ConfigMapRef != nil {
				n.configMaps = append(n.configMaps, e.ConfigMapRef.Name)
			}
		}
		for _, e := range c.Env {
			if e.ValueFrom == nil {
				continue
			}
			if r := e.ValueFrom.SecretKeyRef; r != nil {
				secret(r.Name)
			}
			if r := e.ValueFrom.ConfigMapKeyRef; r != nil {
				n.configMaps = append(n.configMaps, r.Name)
			}
		}
	}
	return n
}

// containersOf are the containers of a pod of every kind.
func containersOf(p *corev1.PodSpec) []corev1.Container {
	out := slices.Concat(p.InitContainers, p.Containers)
	for _, e := range p.EphemeralContainers {
		out = append(out, corev1.Container(e.EphemeralContainerCommon))
	}
	return out
}
