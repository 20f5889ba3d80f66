// Package vouch makes and keeps what the cluster's parts believe each other by: keys,
// certificates, authorities, the keys of Secrets and of tokens, and the key that opens
// the backups.
//
// In come the topology and the moment; out go keys and certificates that are saved
// before anybody gets to see them, as a key that nobody remembers cannot be replaced.
// The pair before is kept under Was until the new one has shown that it works. An
// authority outside is asked by requests in files; its key is never needed here.
//
// It asks no machine and no API: what lies out there is look's to find, and what is
// written there is act's.
package vouch
