package report

import (
	"bytes"
	"fmt"
	"html/template"
	"io"
	"strings"
)

// Page is a page that stands for itself: no script, nothing fetched.
type Page struct {
	Title    string
	Lead     string
	Columns  []string // above what sections have beside their verdicts
	Sections []Section
}

// Section is a part of a page.
type Section struct {
	ID      string // unique, without spaces
	Title   string
	Good    bool
	Open    bool        // neither good nor bad: nothing was shown
	Verdict string      // in a word or two
	Short   []string    // what stands beside the verdict in the list of all sections
	Facts   [][2]string // a name and what it is
	Head    []string
	Rows    []PageRow
	Picture *Timeline
}

// PageRow is a row of a table, and whether what it says holds.
type PageRow struct {
	Cells []string
	Good  bool
}

var pageText = template.Must(template.New("page").Parse(`<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{.Title}}</title>
<style>
body { font: 15px/1.5 "Liberation Sans", sans-serif; color: #2b2e33; background: #fff; max-width: 72rem; margin: 2rem auto; padding: 0 1.5rem; }
h1 { font-size: 1.5rem; font-weight: normal; margin-bottom: .2rem; }
h2 { font-size: 1.15rem; margin: 2.4rem 0 .3rem; border-top: 1px solid #c8c8c8; padding-top: 1.2rem; }
table { border-collapse: collapse; margin: .8rem 0; }
th, td { text-align: left; vertical-align: top; padding: .15rem 1.4rem .15rem 0; }
th { font-weight: normal; color: #6a6e75; border-bottom: 1px solid #c8c8c8; }
dl { display: grid; grid-template-columns: max-content 1fr; gap: .1rem 1.2rem; margin: .6rem 0; }
dt { color: #6a6e75; } dd { margin: 0; }
.good { color: #2f6b64; } .open { color: #6a6e75; } .bad { color: #8f3f24; font-weight: bold; }
a { color: inherit; } svg { max-width: 100%; height: auto; }
@media print { h2 { break-after: avoid; } svg { break-inside: avoid; } }
</style>
</head>
<body>
<h1>{{.Title}}</h1>
<p>{{.Lead}}</p>
{{if gt (len .Sections) 1}}<table>
<tr><th>what</th><th>outcome</th>{{range .Columns}}<th>{{.}}</th>{{end}}</tr>
{{range .Sections}}<tr><td><a href="#{{.ID}}">{{.Title}}</a></td><td class="{{.Class}}">{{.Verdict}}</td>{{range .Short}}<td>{{.}}</td>{{end}}</tr>
{{end}}</table>
{{end}}{{range .Sections}}
<section id="{{.ID}}">
<h2>{{.Title}} <span class="{{.Class}}">{{.Verdict}}</span></h2>
<dl>{{range .Facts}}<dt>{{index . 0}}</dt><dd>{{index . 1}}</dd>{{end}}</dl>
{{if .Rows}}<table>
<tr>{{range .Head}}<th>{{.}}</th>{{end}}</tr>
{{range .Rows}}<tr>{{$good := .Good}}{{range $i, $c := .Cells}}<td{{if eq $i 0}} class="{{if $good}}good{{else}}bad{{end}}"{{end}}>{{$c}}</td>{{end}}</tr>
{{end}}</table>{{end}}
{{.Drawn}}
</section>
{{end}}</body>
</html>
`))

// Class is how a verdict looks.
func (s Section) Class() string {
	switch {
	case s.Open:
		return "open"
	case s.Good:
		return "good"
	}
	return "bad"
}

// Drawn is the picture of a section as a part of the page, or nothing.
func (s Section) Drawn() (template.HTML, error) {
	if s.Picture == nil {
		return "", nil
	}
	var b bytes.Buffer
	if err := s.Picture.Draw(&b, "svg"); err != nil {
		return "", err
	}
	// What stands before the picture belongs to a file of its own.
	_, svg, ok := strings.Cut(b.String(), "<svg")
	if !ok {
		return "", fmt.Errorf("the picture of %s is none", s.Title)
	}
	// The pen writes text with its special characters escaped, and nothing of anybody else.
	return template.HTML("<svg" + svg), nil
}

// Write writes the page.
func (p *Page) Write(w io.Writer) error { return pageText.Execute(w, p) }
