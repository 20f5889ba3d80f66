// Package beforehand judges what is asked of a cluster before a roll-out begins, beyond what
// the plan itself goes by: who still uses what the target does not serve any more, who could
// refuse pods while machines are emptied, what ends before the roll-out does, and how the
// datastore is.
//
// In come facts that somebody gathered, and what could not be looked at; out come concerns,
// each with its way out. It asks nobody, and takes no decision: whoever calls it stops at
// errors.
package beforehand
