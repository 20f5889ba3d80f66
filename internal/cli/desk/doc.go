// Package desk is where a person sits who works on a cluster: it finds the declaration,
// opens the cluster that it declares, shows plans and runs, and asks for the engine.
//
// What several commands share is here. It has no command.
package desk
