// Package practise holds the commands for practising on a simulated site: site with its
// faults, and demo.
package practise
