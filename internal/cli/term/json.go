package term

import (
	"encoding/json"
	"io"
)

// Told is what a command prints as JSON that has nothing to tell but words.
type Told struct {
	Done bool     `json:"done"` // always: what failed says so on standard error
	Said []string `json:"said"` // the lines that it says otherwise
}

// Trouble is a line on standard error of what went wrong.
type Trouble struct {
	Error string `json:"error"`
	Exit  int    `json:"exit,omitempty"` // the exit code; none while the command goes on
}

// JSON writes data as JSON.
func (u *UI) JSON(v any) error {
	e := json.NewEncoder(u.Out)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// counted knows whether anything was written.
type counted struct {
	io.Writer
	any bool
}

func (c *counted) Write(b []byte) (int, error) {
	c.any = c.any || len(b) > 0
	return c.Writer.Write(b)
}

// Tell begins a command whose output is JSON: standard output gets what the command has, and
// Told where it has nothing.
func (u *UI) Tell() { u.Out = &counted{Writer: u.Out} }

// ToldAll ends such a command.
func (u *UI) ToldAll() error {
	if c, ok := u.Out.(*counted); !ok || c.any || u.Quiet {
		return nil
	}
	return u.JSON(Told{true, List(u.said)})
}
