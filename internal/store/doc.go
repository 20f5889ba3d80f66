// Package store is what the tool itself remembers of a cluster: keys and
// certificates, which addresses and host keys its machines have, how its
// datastore members were born, the journal, and who holds the lock.
//
// It lives in .verbund/CLUSTER beside the declaration. The database is opened
// for one short transaction at a time, so that commands which only look never
// wait for a run; the journal is only ever appended to.
package store
