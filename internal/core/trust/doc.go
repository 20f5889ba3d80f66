// Package trust knows the certificates of a cluster: which there are, whose
// authority signs them, which names they carry, and on which machine they lie.
//
// It computes only. Keys come in as crypto.Signer, times and serials as
// arguments; with the same of all three an ECDSA certificate is the same byte
// for byte. Whoever calls keeps the keys and may sign on all processors.
package trust
