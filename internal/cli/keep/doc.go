// Package keep holds the commands for what is kept of a cluster, and shown of it: backup, prove, store with what protects
// it, and what brings a lost folder back.
package keep
