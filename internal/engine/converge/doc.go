// Package converge brings a cluster to where a person wants it: it looks, plans, asks and
// acts in rounds until nothing is left. So it raises, grows, shrinks, upgrades, repairs,
// replaces machines and authorities, clears and tears down.
//
// In come a session, what was declared, and an Asker that has the person's word. Before
// yes and the survey nothing is written; what was agreed to is written down before it is
// begun, so that the same command, or the next converge, goes on where one was killed.
// What showed only underway and cannot be undone is asked about again.
//
// It knows no terminal. What to do is decided in core/plan, how it is done in act.
package converge
