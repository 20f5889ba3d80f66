package cli

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"verbund/internal/cli/term"
)

// usualWidth is how wide a help text is where there is no terminal, and at most, in characters:
// longer lines are hard to read.
const usualWidth = 84

// helps gives every command its help: broken between words at the terminal's width, with what
// a column holds below where it began.
func helps(root *cobra.Command) {
	// Flags of which one says yes by naming them need no more than their name.
	cobra.AddTemplateFunc("plainFlags", func(f *pflag.FlagSet) string {
		const value = "[=true|false]"
		return strings.ReplaceAll(f.FlagUsages(), value, strings.Repeat(" ", len(value)))
	})
	root.SetUsageTemplate(strings.NewReplacer(".LocalFlags.FlagUsages", "plainFlags .LocalFlags", ".InheritedFlags.FlagUsages", "plainFlags .InheritedFlags").Replace(root.UsageTemplate()))
	root.SetHelpFunc(func(cmd *cobra.Command, _ []string) {
		text := cmd.Long
		if text == "" {
			text = cmd.Short
		}
		if cmd.Runnable() || cmd.HasSubCommands() {
			text += "\n\n" + cmd.UsageString()
		}
		width := term.Width(cmd.OutOrStdout())
		if width == 0 {
			width = usualWidth
		}
		fmt.Fprintln(cmd.OutOrStdout(), fitted(text, min(width, usualWidth)))
	})
}

var (
	column  = regexp.MustCompile(`^ +\S+( \S+)*  +`) // a name that an explanation follows
	example = regexp.MustCompile(`^ +verbund( |$)`)  // to be copied, so that it stays on its line
)

// fitted breaks a help text at a width. Lines at the margin that follow each other are one
// paragraph; those that are set in stay lines.
func fitted(text string, width int) string {
	var out, paragraph []string
	for l := range strings.SplitSeq(strings.TrimSpace(text)+"\n", "\n") {
		if l = strings.TrimRight(l, " "); l != "" && l[0] != ' ' {
			paragraph = append(paragraph, l)
			continue
		}
		if len(paragraph) > 0 {
			out = append(out, term.Fold(strings.Join(paragraph, " "), width)...)
			paragraph = nil
		}
		head := column.FindString(l)
		if head == "" && example.MatchString(l) {
			out = append(out, l)
			continue
		}
		out = append(out, term.Hang(head, l[len(head):], width))
	}
	return strings.TrimRight(strings.Join(out, "\n"), "\n")
}
