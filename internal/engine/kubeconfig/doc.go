// Package kubeconfig keeps the files of people through which they reach a cluster: an entry
// is merged in, follows the cluster's endpoint and authorities, and is taken out at the end.
//
// Only an entry that trusts an authority which this cluster has or had is changed; one of
// another cluster of the same name is left alone, and said. Files are replaced whole, a
// copy of what was there stays beside them.
package kubeconfig
