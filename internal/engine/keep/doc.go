// Package keep takes backups and looks after them: it finds, opens, verifies and copies them,
// fetches copies back, and drops them.
//
// In come a session and the moment; out go files, what stands in them, and what is remembered
// of them. Restoring one is converge's, by steps; here nothing of a cluster is ever changed.
package keep
