// Package look holds the commands that look at a cluster: status, nodes, machines, inspect,
// logs, history, survey, collect. They change nothing.
package look
