// Package backup is the file that a backup of a cluster is: a tar archive, encrypted
// with age, that holds what the datastore knew and what is needed to read it.
//
//	manifest.json  of which cluster, when and why, on which version, at which revision, how
//	               many objects of each kind, how long the snapshot is
//	secrets.yaml   Kubernetes' EncryptionConfiguration, with the keys that open the
//	               Secrets in the snapshot
//	files/         the declaration with its site and pins, and the tool's memory of the
//	               cluster, with every key
//	snapshot.db    the datastore's snapshot, in etcd's own format, with its own sum
//	digests.json   SHA-256 of each of the parts before
//
// It is written and read as a stream: nothing of it ever lies on a disk in plain. What
// a file is called says nothing; what counts stands in its manifest. A file of which
// Verify has not read the end is not known to be whole.
package backup
