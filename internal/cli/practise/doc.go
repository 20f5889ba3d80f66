// Package practise holds the commands for practising: rehearse and drill, and site with its
// faults, and demo.
package practise
