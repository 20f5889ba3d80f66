// Package term is the terminal: colours, tables, folded text, JSON, questions, exit codes
// and the mistakes in how a command was used. It knows no cluster.
//
// Data goes to standard output, progress and findings to standard error. What machines and
// people's pods say is shown with its control characters made visible.
package term
