// Package versions is the catalogue: which versions of everything fit one
// Kubernetes version, and which hops lead from one to another.
//
// The shipped catalogue is data (catalogue.yaml) inside the program. Every
// artefact in it is pinned by the digest of its OCI manifest (digests.txt), so
// that a registry cannot hand out something else under a known name.
package versions
