// Package drill carries drills out: it disturbs a cluster on purpose, measures meanwhile what
// has to hold, and puts everything right again, whatever happens.
//
// In come a session, a drill, what can disturb the site and what runs the tool's own commands;
// out goes a report. It refuses where the cluster is not well, and disturbs nothing that the
// drill does not name.
package drill
