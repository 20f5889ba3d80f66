// Package site is where machines come from, in words that hold for every kind of site:
// what one has, how a machine is ordered, what it refuses.
//
// How a kind is asked is in a folder of its own beside this file. Who works with a site
// says by an interface of its own what it needs of it.
package site
