// Package plan compares what should be with what was observed, and says which steps lead
// from one to the other, in which order, why, and under which guards.
//
// In come a topology, what was seen (Observed) and the catalogue; out goes a Plan, a graph
// in which a step may begin when all that it needs are done, or a Refusal with the way out.
// What was not seen is never taken for gone: a step that would need to know it is refused,
// or left for the next plan (Plan.More). An interrupted plan is not resumed: it is computed
// anew from what is observed then, and steps that are observed as done do not appear again.
//
// The tables of kinds (About) and of guards (Words) are the only place where either is
// described; whoever carries a plan out evaluates the same guards. A Flow says which steps
// may begin as others begin and end; it knows no time, and serves the estimate and the run.
//
// It computes only, the same every time: no clock, no order of a map, and no text decides
// anything. It never changes what it is given.
package plan
