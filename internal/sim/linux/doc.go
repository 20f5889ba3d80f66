// Package linux makes machines that are real Linux systems on this computer: a disk of their
// own with a Debian root file system, network, mount, process, host name, IPC and cgroup
// namespaces of their own, systemd as their first process, OpenSSH to log in by.
//
// A machine shares nothing with another one but the kernel and a bridge, which lies in a
// network namespace of its own without a way out of this computer. What the kernel has only
// once (its clock, its log, its own settings) the machines have in common; a power cut ends
// all of a machine's processes at once, but what they had written is not lost with them, as
// it might be in life.
//
// Only root can make them. What is left over after a crash is found by its name and said.
package linux
