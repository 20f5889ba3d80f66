// Package rollout decides in which waves a change reaches the machines of a group: a pool,
// the control plane, or the datastore's machines.
//
// In come the group's policy, as it is declared, and of each machine what is to change and
// where it is; out go waves with reasons, and what has to be between them: a time of
// watching, and a person's word. What a machine cannot become while it lives, and everything
// where the policy says so, is done by replacement: Swaps says which places of a group get a
// machine of another number, so that the new one comes before the old one goes.
//
// Nothing is remembered here. Which wave was open when a run ended comes in with the rest;
// all else follows from what the machines are.
package rollout
