package term

import (
	"fmt"
)

// The exit codes.
const (
	ExitDone        = 0
	ExitFailed      = 1
	ExitUsage       = 2
	ExitNotWell     = 3
	ExitLocked      = 4
	ExitInterrupted = 130
)

// Exit is an error with an exit code; without a message it has been told already.
type Exit struct {
	Code int
	Err  error
}

func (e *Exit) Error() string {
	if e.Err == nil {
		return ""
	}
	return e.Err.Error()
}

func (e *Exit) Unwrap() error { return e.Err }

// Usage is a mistake in how a command was used.
func Usage(format string, args ...any) error { return &Exit{ExitUsage, fmt.Errorf(format, args...)} }
