// Package datastoretest starts real members of etcd for tests, alone or as a cluster, with or
// without TLS.
package datastoretest
