// Package write holds the commands for what is written before there is a cluster: draft,
// check, versions, render. None of them asks a machine.
package write
