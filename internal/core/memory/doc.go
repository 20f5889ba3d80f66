// Package memory is what is remembered of a cluster between two runs, as one plain value, with
// the rules by which it changes.
//
// In come a State and what happened: the datastore is about to be founded, a member joins, a
// wave is over, a restoration begins. Out goes the State after it; what must not happen is an
// error and changes nothing. Nothing is read or written here: whoever keeps a State takes it
// apart with Entries, puts it together again with Of, and sees to it that a change is there as
// a whole or not at all.
//
// Keys and certificates, the journal and the backups themselves are no part of it.
package memory
