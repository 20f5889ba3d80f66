package desk

import (
	"bytes"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"verbund/internal/cli/term"
	"verbund/internal/report"
	"verbund/internal/whole"
)

// Drawn is a picture that can be written in several formats.
type Drawn interface {
	Draw(w io.Writer, format string) error
}

// DrawTo draws a picture into a file, in the format that its name ends with.
func (a *App) DrawTo(file string, d Drawn) error {
	format := strings.TrimPrefix(filepath.Ext(file), ".")
	if !slices.Contains(report.Formats, format) {
		return term.Usage("a picture %s cannot be drawn; give a file that ends in .svg or .png", file)
	}
	var b bytes.Buffer
	if err := d.Draw(&b, format); err != nil {
		return err
	}
	if err := whole.Write(file, b.Bytes(), 0o644); err != nil {
		return err
	}
	a.UI.Say("drew %s", file)
	return nil
}
