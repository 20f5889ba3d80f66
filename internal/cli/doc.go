// Package cli is the program: it puts the commands together, reads the command line, and
// says by its exit code how it went.
//
// A room for each group of commands stands on desk, which opens a cluster, and on term,
// which is the terminal; no command's room knows another one's. The tests of the built
// program are here.
package cli
