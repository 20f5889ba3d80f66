package vouch

import (
	"time"
)

type TokenSaid struct {
	Token   string    `json:"token"` // it is shown this once
	ID      string    `json:"id"`
	Pool    string    `json:"pool"`
	Machine string    `json:"machine"`
	Uses    int       `json:"uses"`
	Ends    time.Time `json:"ends"`
}
