// Package enter holds the commands by which people come in: access and hosts.
package enter
