// Package sim is the simulated site that ships with the tool: machines, their agent,
// services and stand-ins, registry and balancer. It could have been written by a stranger who
// knows only the protocols, and nothing outside imports it but the command that starts its
// processes.
//
// In come orders over the site's protocol, logins over SSH, and what lies on a machine's
// disk; a machine does what its disk says and what arrives at its sockets, and nothing else.
// It never plans, never reads the tool's memory, and is told nothing on the side. A stand-in
// refuses in words what it does not do, and fails as the real one does: where the two differ,
// the stand-in is wrong.
//
// The site's process keeps the inventory; each zone is a process of its own, whose end is a
// loss of power; etcd is real, in processes of its own. Faults on purpose are orders, too.
package sim
