// Package proof is what a cluster is asked that is to be shown to work, as people would use
// it: which questions there are, whom a node's witness asks, and what the answers add up to.
//
// In come nodes with their zones, and answers; out go who asks whom, and whether everything
// holds. It asks nobody itself.
package proof
