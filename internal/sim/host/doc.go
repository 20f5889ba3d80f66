// Package host is one simulated machine: a disk, power, a console, an SSH
// server with an agent, a service manager and two slots for versions.
//
// The machine knows nothing of clusters. It does what its disk says and what
// arrives at its sockets; what it runs are Programs, looked up by the name in a
// stand-in descriptor that ExecStart of a unit points to.
package host
