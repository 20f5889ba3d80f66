// Package prove shows that a cluster works by using it as people would: a small workload on
// every node is reached from outside, from every zone and by its name, its log is read, a pod
// comes back that was deleted, and the API goes on while a control-plane machine has no power.
//
// In come a session and what was seen; out goes a report. It works in a namespace of its own,
// which it removes whatever happens; what an earlier proof left is removed first.
package prove
