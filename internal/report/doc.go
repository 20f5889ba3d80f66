// Package report draws pictures: of plans and of what was done, machines down
// and time across; and of who shows which certificate to whom. A picture is SVG
// or PNG, made by the same drawing.
package report
