// Package act holds the commands that change a cluster: plan, converge, scale, upgrade,
// replace, clear, teardown. They show what will be done and ask; the engine's converge does
// it.
package act
