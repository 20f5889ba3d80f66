// Package act carries steps out. A Run is one plan being carried out: it holds the
// cluster's lock through its command, writes the journal, and answers for its steps.
//
// In come steps of core/plan, whose order, guards and needs were decided there; out goes
// a journal with the intent before whatever is made, and an error that says on which
// machine what came back. Each step evaluates its guards, looks whether it is already
// so, does it, and confirms it within a deadline. Files are written whole, with the
// digest of what was written remembered, and a machine that does not become well with
// new files falls back to what it ran before.
//
// It asks nobody: whoever begins a run has the person's word. It plans nothing, and a
// step that is not as the plan thought is refused and planned anew, never improvised.
package act
