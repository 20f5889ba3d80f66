// Package store keeps what the tool itself remembers of a cluster, in a folder of this computer:
// keys and certificates, the state that core/memory describes, the journal, the backups with
// what opens them, and who holds the lock.
//
// It lives in .verbund/CLUSTER beside the declaration. The database is opened for one short
// transaction at a time, so that commands which only look never wait for a run; one change is
// one transaction, there as a whole or not at all, also after a power cut. The journal is
// only ever appended to, and is history: nothing is decided by it but whether a run was cut
// off. Secrets are closed with a key of their own, and that one for whoever may open them.
//
// Every value is under a check, and Check walks all of them and looks whether they fit
// together. From what is damaged nothing is read as if it were not: the error is a *Damage,
// and where nobody can open it a *Closed. No path, lock file or database shows through what
// session.Memory asks of it.
package store
