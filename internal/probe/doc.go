// Package probe asks an application from outside, again and again, and judges whether it
// still answers as it should.
//
// In come the watches of a declaration, each an address, what it has to answer, and how much
// may go wrong; out go figures, and the first limit that was broken. It knows no cluster and
// no machine. What it counts begins with Start and is over with Stop.
package probe
