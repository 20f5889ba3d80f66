// Package look finds out how a cluster is: which machines there are, what lies and runs
// on them, who the datastore's members are, what the API says, whether certificates are
// what they should be, whether an authority that was replaced is really refused.
//
// Everything is asked in parallel, each question with a deadline of its own, and the
// answer is a View: a value that is held against the topology, and planned from. What
// could not be seen is said with its reason, and is never taken for gone.
//
// It changes nothing, neither outside nor in the memory.
package look
