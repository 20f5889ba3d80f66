package desk

import (
	enginelook "verbund/internal/engine/look"
)

type ReplacedSaid struct {
	Replaced string              `json:"replaced"`
	Proof    []enginelook.Proved `json:"proof"`
	Holds    bool                `json:"holds"` // all of it
}
