package term

import (
	"encoding/json"
)

// JSON writes data as JSON.
func (u *UI) JSON(v any) error {
	e := json.NewEncoder(u.Out)
	e.SetIndent("", "  ")
	return e.Encode(v)
}
