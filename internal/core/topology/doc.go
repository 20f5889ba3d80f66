// Package topology turns a declaration into the machines and nodes that there
// should be: their names, zones and addresses.
package topology
