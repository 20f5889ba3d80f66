// Package keep holds the command for the memory of a cluster and what protects it: store.
package keep
