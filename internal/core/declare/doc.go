// Package declare reads what a person wrote: the declaration of a cluster and
// the file of the site that supplies its machines.
//
// Reading never stops at the first mistake. Decode walks the YAML tree and
// collects a Finding for every key that is unknown and every value that has
// the wrong type, each with its place; Check then applies the rules that need
// the whole picture (ranges that overlap, versions that the catalogue does not
// know, zones that the site does not have). A declaration is used only when
// neither found an error.
package declare
