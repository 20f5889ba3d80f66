package trust

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// NextID is where the one that is to sign after this one is kept.
func NextID(id string) string { return id + ".next" }

// was begins the ID of a pair that was renewed.
const was = "was/"

// WasID is where the pair before the present one is kept, until the present one has shown that
// it works.
func WasID(id string) string { return was + id }

// IsOf says whether a certificate, or the one before it, is of a machine.
func IsOf(machine, id string) bool {
	return strings.HasPrefix(strings.TrimPrefix(id, was), machine+"/")
}

// OldID is where the one that signed before this one is kept.
func OldID(id string) string { return id + ".old" }

// Replaceable lists everything that can be replaced in three passes.
var Replaceable = []string{string(Cluster), string(Datastore), string(FrontProxy), ServiceAccountKey, SecretsKey}

// Pass is how far a replacement has come.
type Pass int

// The passes of a replacement. Each rolls over the whole cluster before the
// next one may begin.
const (
	NoPass  Pass = iota
	Both         // old and new are trusted everywhere, the old one signs
	Reissue      // old and new are trusted everywhere, the new one signs
	Drop         // only the new one is trusted
)

// String names the pass as people are told of it.
func (p Pass) String() string {
	return []string{"none", "trust both", "sign anew", "drop the old one"}[p]
}

// Trusted lists the IDs of everything that is trusted in the place of one, the
// one that signs first.
func Trusted[T any](kept map[string]T, id string) []string {
	out := []string{id}
	for _, other := range []string{NextID(id), OldID(id)} {
		if _, ok := kept[other]; ok {
			out = append(out, other)
		}
	}
	return out
}

// Bundle is the certificates of an authority that are trusted now, as PEM.
func Bundle(certs map[string][]byte, id string) []byte {
	var out []byte
	for _, t := range Trusted(certs, id) {
		out = append(out, certs[t]...)
	}
	return out
}

// Replacement is how far the replacement of something has come; it is
// remembered from before the first pass until the proof after the last.
type Replacement struct {
	Pass  Pass      `json:"pass"`
	Began time.Time `json:"began"`
	// Since is when the pass was begun, and Done when it was finished everywhere.
	Since time.Time `json:"since"`
	Done  time.Time `json:"done,omitzero"`
	// Now says that the old one was distrusted at once: nobody was asked to wait.
	Now bool `json:"now,omitempty"`
}

// CheckReplaceable says which things can be replaced, if not this one.
func CheckReplaceable(id string) error {
	if !slices.Contains(Replaceable, id) {
		return fmt.Errorf("%s cannot be replaced; these can: %v", id, Replaceable)
	}
	return nil
}
