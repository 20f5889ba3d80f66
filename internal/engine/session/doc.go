// Package session is one cluster as a command works on it: its declaration, its memory,
// and the ways to its site, machines, datastore and API.
//
// In comes what was declared and what is remembered; out go the topology, open clients
// and the bytes of rendered files. Connections belong to the session, are shared by
// whoever asks, and end with Close. What it was told since it was opened (keys and
// certificates that were saved, addresses that the site leased) it tells everybody who
// asks later.
//
// It decides nothing, plans nothing, and writes nothing to a machine. The rooms beside
// it stand on it in this order: vouch, look, act, converge.
package session
