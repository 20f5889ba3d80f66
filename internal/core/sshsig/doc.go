// Package sshsig signs and verifies texts with SSH keys, in OpenSSH's format for detached
// signatures (PROTOCOL.sshsig): what is signed here verifies with ssh-keygen -Y verify, and what
// ssh-keygen -Y sign has signed verifies here.
package sshsig
