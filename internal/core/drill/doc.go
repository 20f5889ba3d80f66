// Package drill is practising faults on purpose: which drills there are, what each supposes,
// whom it hits, what has to hold meanwhile, and whether what was measured holds.
//
// In come drills, shipped or declared, a cluster with what is known of it, and what was
// measured; out go steps with the machines and zones that they hit, and a verdict. It disturbs
// nothing itself.
package drill
