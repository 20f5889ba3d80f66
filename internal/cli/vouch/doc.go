// Package vouch holds the commands for certificates, keys, tokens and requests: trust,
// token, requests.
package vouch
