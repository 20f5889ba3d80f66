// Package systemd is the machine below an agent where it is a real Linux system: systemd runs
// the units and is asked over its own D-Bus interface, logs are the journal's, files lie where
// they lie.
//
// It touches no unit and no file that is not ours: a unit is ours when its file is a link into
// a slot. The agent runs as a program of its own for every login, as a sub-system of the
// machine's SSH server; it keeps nothing between two logins but what lies on the machine.
package systemd
