package declare

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"time"

	"verbund/internal/core/versions"
)

// Endings of the names of the files that belong together.
const (
	Ending     = ".verbund.yaml"
	SiteEnding = ".site.yaml"
	PinsEnding = ".pins.yaml"
)

// Input is where a declaration is read from.
type Input struct {
	Files fs.FS  // holds the declaration and what it names
	File  string // in Files
	Text  []byte // of the declaration, if another one than File's is to be read
	// Shipped is the catalogue inside the program.
	Shipped *versions.Catalogue
	Now     time.Time
}

// Result is a declaration that was read, with everything that it names.
type Result struct {
	File     string
	Decl     *Declaration
	Site     *Site
	SiteFile string
	PinsFile string
	Pins     *versions.Pins // nil when there is no file yet
	// Plain is the declared catalogue, Catalogue the same with the pins over it.
	Plain, Catalogue *versions.Catalogue
	Findings         Findings
	doc              *document
}

// Merged is the declaration as it stands after extending, with a comment at
// each value that says where it came from.
func (r *Result) Merged() (string, error) { return r.doc.merged() }

// ErrNoFile says that the declaration itself cannot be read.
var ErrNoFile = errors.New("the declaration cannot be read")

// Read decodes and checks a declaration and what it names: the files that it
// extends, its site, its catalogue, its pins. The declaration has its defaults
// filled in; it may be used only if the findings hold no error.
func Read(in Input) (*Result, error) {
	data := in.Text
	if data == nil {
		var err error
		if data, err = slurp(in.Files, in.File); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrNoFile, err)
		}
	}
	r := &Result{File: in.File, Decl: &Declaration{}, Plain: in.Shipped, Catalogue: in.Shipped}
	d := decode(in.Files, in.File, data, r.Decl)
	r.doc = d
	beside := func(name string) string { return path.Join(path.Dir(in.File), name) }
	if label.MatchString(r.Decl.Site) {
		r.SiteFile = beside(r.Decl.Site + SiteEnding)
		text, err := slurp(in.Files, r.SiteFile)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			d.add("site", "site-missing", fmt.Sprintf("the site file %s is not there", path.Base(r.SiteFile)), "write it, or let draft write an example")
		case err != nil:
			d.add("site", "site-missing", fmt.Sprintf("the site file %s cannot be read: %v", path.Base(r.SiteFile), err), "mend that first")
		default:
			var sf Findings
			r.Site, sf = ReadSite(r.SiteFile, text)
			d.Findings = append(d.Findings, sf...)
		}
	}
	if c := r.Decl.Catalogue; c != nil {
		d.readCatalogue(in, r, beside(c.File))
	}
	if label.MatchString(r.Decl.Name) {
		r.PinsFile = beside(r.Decl.Name + PinsEnding)
		d.readPins(in, r)
	}
	if len(d.places) > 0 || d.Findings.Errors() == 0 {
		k := &checker{document: d, c: r.Decl, site: r.Site, cat: r.Catalogue, now: in.Now}
		k.all()
	}
	r.Findings = d.Findings
	r.Findings.Sort()
	return r, nil
}

func (d *document) readCatalogue(in Input, r *Result, file string) {
	c := r.Decl.Catalogue
	if c.File == "" || c.Digest == "" {
		d.add("catalogue", "missing", "catalogue needs file and digest", "give both; sha256sum prints the digest, to be written as sha256:…")
		return
	}
	text, err := slurp(in.Files, file)
	if err != nil || len(text) > MaxBytes {
		d.add("catalogue.file", "catalogue-missing", fmt.Sprintf("the catalogue %s cannot be read", c.File), "name a file beside the declaration; verbund versions --write makes one to start from")
		return
	}
	if got := versions.DigestOf(text); got != c.Digest {
		d.add("catalogue.digest", "catalogue-digest", fmt.Sprintf("the catalogue %s has digest %s, not %s", c.File, got, c.Digest), "find out who changed it; if it is right, write its digest")
		return
	}
	cat, err := versions.Read(text)
	if err != nil {
		d.add("catalogue.file", "catalogue-damaged", fmt.Sprintf("the catalogue %s is not used: %v", c.File, err), "mend it and write its new digest")
		return
	}
	r.Plain, r.Catalogue = cat, cat
}

func (d *document) readPins(in Input, r *Result) {
	text, err := slurp(in.Files, r.PinsFile)
	if errors.Is(err, fs.ErrNotExist) {
		return
	}
	var p *versions.Pins
	if err == nil {
		p, err = versions.ReadPins(text, r.Decl.Name)
	}
	if err != nil {
		t := &versions.PinsTrouble{}
		if !errors.As(err, &t) {
			t = &versions.PinsTrouble{Rule: "pins-damaged", What: "the pins file cannot be read: " + err.Error(), Todo: "mend that first"}
		}
		d.addAt(place{r.PinsFile, 1, 1}, t.Rule, t.What, t.Todo)
		return
	}
	r.Pins = p
	r.Catalogue = r.Plain.With(p.Sets, p.Artefacts)
}
