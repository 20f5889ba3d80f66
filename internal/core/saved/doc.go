// Package saved is a plan that people agree on before it is carried out: what it consists of, what it
// was computed from, until when it may be carried out, what is different by now, and whether enough
// people have signed it.
package saved
