// Package cli holds the commands: flags, tables, questions and progress. It is
// the only room that knows a terminal.
//
// Data goes to standard output, progress and findings to standard error. A
// command that changes things shows what it will do and asks, unless --yes;
// without a terminal and without --yes it refuses.
package cli
