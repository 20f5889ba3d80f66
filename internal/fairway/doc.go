// Package fairway is the network plugin on a machine that is a real Linux system: it writes
// the CNI configuration by which the container runtime wires pods to a bridge of the node,
// with the standard programs of CNI, and keeps routes to the pods of the other nodes, each
// through its node's own address.
//
// It keeps nothing of its own: ranges are those that the cluster gave to the nodes, routes
// are found again by the mark that the kernel keeps with them, and what nobody needs any more
// is taken away. It is ready while all of it holds.
package fairway
