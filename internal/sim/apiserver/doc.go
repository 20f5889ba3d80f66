// Package apiserver is the stand-in of the Kubernetes API server: a small
// server of our own on the published API types, with etcd behind it.
//
// It speaks the real API as far as the job needs it: discovery, get, list and
// watch with etcd's revisions as resource versions, create, update, patch and
// delete, tables, eviction with disruption budgets, bindings, logs through the
// kubelet, service-account tokens; with client certificates, RBAC, the node
// authorizer and node restriction.
package apiserver
