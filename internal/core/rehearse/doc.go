// Package rehearse plays a change of a cluster through in virtual time.
//
// In come what was observed, the rules that work the declaration out, the pods with what they
// ask for and the budgets that guard them, and how long each step takes; out go when each
// machine is out of service and when all is over, where a drain waits for a budget or its
// pods find no place, and the lowest capacity with its moment. The plans, their order and
// their guards are those of core/plan: what a rehearsal adds is what the world does in
// between, as Carried says it.
//
// It computes only: time, durations and what a failing machine does come in as arguments.
package rehearse
