// Package gauge measures what has to hold while something of a cluster is disturbed: whether
// the API takes writes, how long it pauses at most, whether everything that it acknowledged is
// there afterwards, and whether the declared applications answer.
//
// In come a client, an address and a namespace of its own; out go figures. It writes into that
// namespace alone, and disturbs nothing itself.
package gauge
