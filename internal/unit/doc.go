// Package unit is for our own programs on a cluster's machines: what they see of their
// machine, and what several of them need. The same programs run on machines of every kind;
// here is one that is this computer.
package unit
