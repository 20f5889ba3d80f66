// Package nodeconf writes every file of every machine: systemd units with the
// components' flags, their configuration files, kubeconfigs, name resolution
// and the balancer's configuration.
//
// Files under /opt/verbund/active belong to a slot: they change together with
// the binaries beside them when the machine is upgraded, and come back with
// them when it falls back. Certificates, keys and names live outside the slots.
// Kubeconfigs refer to certificate files instead of containing them.
package nodeconf
