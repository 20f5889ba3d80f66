// Package node holds the stand-ins of what runs on every node: container
// runtime, kubelet, service proxy, and in pods the network plugin, DNS and the
// example applications.
package node
