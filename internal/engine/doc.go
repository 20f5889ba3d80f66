// Package engine carries a plan out: it looks at machines and cluster, makes
// the certificates, runs the steps with bounded concurrency, and writes the
// journal.
//
// Every step looks whether it is already so, does it, and confirms it within a
// deadline. What makes something writes its intent first, and keys are on disk
// before they are used.
package engine
