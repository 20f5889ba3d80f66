package term

import (
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/core/declare"
)

// NoArgs is cobra.NoArgs with our exit code.
func NoArgs(cmd *cobra.Command, args []string) error {
	if len(args) > 0 {
		return Usage("%s takes no argument, and %q was given", cmd.Name(), args[0])
	}
	return nil
}

// ExactArgs wants so many arguments; what says which.
func ExactArgs(n int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != n {
			return Usage("%s needs %s", cmd.Name(), what)
		}
		return nil
	}
}

// Span reads a time span of a flag.
func Span(flag, text string, least, most time.Duration) (time.Duration, error) {
	var d declare.Duration
	if err := d.UnmarshalText([]byte(text)); err != nil {
		return 0, Usage("--%s: %v; write it like 15m or 8h", flag, err)
	}
	if t := time.Duration(d); t < least || t > most {
		return 0, Usage("--%s %s is out of range: from %s to %s", flag, text, declare.Duration(least), declare.Duration(most))
	}
	return time.Duration(d), nil
}

// Suggestion names the nearest known word.
func Suggestion(word string, known []string) string {
	if near := declare.Nearest(word, known); near != "" {
		return "did you mean " + near + "?"
	}
	return ""
}
