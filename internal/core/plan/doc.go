// Package plan compares what should be with what was observed, and says which
// steps lead from one to the other, in which order, why, and under which
// guards.
//
// It computes only. A plan is a graph: a step may begin when all that it needs
// are done. An interrupted plan is not resumed: it is computed anew from what
// is observed then, and steps that are observed as done do not appear again.
package plan
