package enter

import (
	"verbund/internal/store"
)

type AccessSaid struct {
	store.Given
	Works bool `json:"works"`
}
