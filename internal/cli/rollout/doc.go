// Package rollout holds the commands with which a person has a hand on a roll-out: where it
// stands, hold, resume, back.
package rollout
