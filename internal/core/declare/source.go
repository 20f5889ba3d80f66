package declare

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// MaxBytes is the largest file that is read. A declaration of a thousand
// machines is a few kilobytes; anything near the limit is another kind of file.
const MaxBytes = 1 << 20

// maxDepth is how deep values may be nested; no key of the format is deeper
// than a handful, settings of components included.
const maxDepth = 32

// place is where a value stands.
type place struct {
	file         string
	line, column int
}

// document is a decoded file, merged with those that it extends: its places by
// path, and what was found.
type document struct {
	file     string
	root     *yaml.Node
	origin   map[*yaml.Node]string // the file of every node
	places   map[string]place
	Findings Findings
}

// slurp reads a file up to one byte more than is allowed.
func slurp(fsys fs.FS, file string) ([]byte, error) {
	f, err := fsys.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, MaxBytes+1))
}

// add records a finding at the place of a path, or of its nearest parent that
// was written.
func (d *document) add(at, rule, what, todo string) {
	p := at
	for {
		if pl, ok := d.places[p]; ok {
			d.addAt(pl, rule, what, todo)
			return
		}
		i := strings.LastIndexAny(p, ".[")
		if i < 0 {
			d.addAt(place{d.file, 1, 1}, rule, what, todo)
			return
		}
		p = p[:i]
	}
}

func (d *document) addAt(at place, rule, what, todo string) {
	d.Findings = append(d.Findings, Finding{File: at.file, Line: at.line, Column: at.column, Severity: severityOf(rule), Rule: rule, What: what, Todo: todo})
}

// has says whether a path was written in a file.
func (d *document) has(path string) bool { _, ok := d.places[path]; return ok }

func (d *document) at(n *yaml.Node) place { return place{d.origin[n], n.Line, n.Column} }

var yamlLine = regexp.MustCompile(`line (\d+)(?:, column (\d+))?`)

// parse reads one file into nodes; nil when it cannot be used.
func (d *document) parse(file string, data []byte) *yaml.Node {
	start := place{file, 1, 1}
	if len(data) > MaxBytes {
		d.addAt(start, "file-too-large", fmt.Sprintf("the file has more than the %d bytes that are read", MaxBytes), "check that it is the right file")
		return nil
	}
	dec := yaml.NewDecoder(bytes.NewReader(data))
	var root, more yaml.Node
	err := dec.Decode(&root)
	if errors.Is(err, io.EOF) || err == nil && (len(root.Content) == 0 || root.Content[0].Tag == "!!null") {
		d.addAt(start, "file-empty", "the file holds no document", "write a declaration, or let draft write one")
		return nil
	}
	if err != nil {
		d.addAt(d.notYAML(start, err), "not-yaml", "this is not YAML: "+strings.TrimPrefix(err.Error(), "yaml: "), "mend the syntax at this line or just above it")
		return nil
	}
	switch err := dec.Decode(&more); {
	case err == nil:
		d.addAt(place{file, max(more.Line, 1), max(more.Column, 1)}, "two-documents", "a second document begins here", "keep one document a file")
	case !errors.Is(err, io.EOF):
		d.addAt(d.notYAML(start, err), "not-yaml", "this is not YAML: "+strings.TrimPrefix(err.Error(), "yaml: "), "mend the syntax at this line or just above it")
		return nil
	}
	if !d.adopt(file, root.Content[0], 0) {
		return nil
	}
	return root.Content[0]
}

// notYAML is where a file stops being YAML, as the library says it.
func (d *document) notYAML(at place, err error) place {
	if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
		at.line, _ = strconv.Atoi(m[1])
		if m[2] != "" {
			at.column, _ = strconv.Atoi(m[2])
		}
	}
	return at
}

// adopt notes the file of every node, and refuses what is not read anywhere:
// anchors, aliases, keys that stand twice, and bottomless nesting.
func (d *document) adopt(file string, n *yaml.Node, depth int) bool {
	d.origin[n] = file
	switch {
	case n.Kind == yaml.AliasNode || n.Anchor != "":
		d.addAt(d.at(n), "no-anchors", "anchors and aliases are not read", "write the value out")
		return false
	case depth > maxDepth:
		d.addAt(d.at(n), "too-deep", fmt.Sprintf("values are nested more than %d deep", maxDepth), "check that it is the right file")
		return false
	}
	ok := true
	if n.Kind == yaml.MappingNode {
		seen := map[string]int{}
		kept := n.Content[:0:0]
		for i := 0; i+1 < len(n.Content); i += 2 {
			k := n.Content[i]
			d.origin[k] = file
			if k.Kind != yaml.ScalarNode {
				d.addAt(d.at(k), "bad-key", "a key has to be plain text", "write a name before the colon")
				continue
			}
			if line, dup := seen[k.Value]; dup {
				d.addAt(d.at(k), "key-twice", fmt.Sprintf("key %q stands twice, first on line %d", k.Value, line), "keep one of them")
				continue
			}
			seen[k.Value] = k.Line
			kept = append(kept, k, n.Content[i+1])
			ok = d.adopt(file, n.Content[i+1], depth+1) && ok
		}
		n.Content = kept
		return ok
	}
	for _, c := range n.Content {
		ok = d.adopt(file, c, depth+1) && ok
	}
	return ok
}

// child finds a key of a mapping.
func child(n *yaml.Node, key string) (k, v *yaml.Node) {
	if n != nil && n.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == key {
				return n.Content[i], n.Content[i+1]
			}
		}
	}
	return nil, nil
}

// load reads a file and merges it over those that it extends.
func (d *document) load(fsys fs.FS, file string, data []byte, above []string) *yaml.Node {
	root := d.parse(file, data)
	_, ext := child(root, "extends")
	if ext == nil || ext.Kind != yaml.ScalarNode {
		return root
	}
	base := path.Join(path.Dir(file), ext.Value)
	above = append(above, file)
	if slices.Contains(above, base) {
		names := []string{}
		for _, f := range append(above, base) {
			names = append(names, path.Base(f))
		}
		d.addAt(d.at(ext), "extends-circle", "the files extend each other in a circle: "+strings.Join(names, ", "), "take extends out of one of them")
		return root
	}
	var text []byte
	var err error = fs.ErrInvalid
	if fs.ValidPath(base) && base != "." {
		text, err = slurp(fsys, base)
	}
	if err != nil {
		var pe *fs.PathError
		if errors.As(err, &pe) {
			err = pe.Err
		}
		d.addAt(d.at(ext), "extends-missing", fmt.Sprintf("the file %s that is extended cannot be read: %v", ext.Value, err), "name a file relative to this one")
		return root
	}
	under := d.load(fsys, base, text, above)
	if under != nil && under.Kind != yaml.MappingNode {
		d.addAt(d.at(ext), "extends-missing", fmt.Sprintf("the file %s that is extended holds no keys with their values", ext.Value), "name a file that is written as a declaration is")
	}
	if under == nil || root.Kind != yaml.MappingNode || under.Kind != yaml.MappingNode {
		return root
	}
	return d.merge("", under, root)
}

// byName are lists whose entries are told apart by their name.
var byName = []string{"pools", "system.people"}

// merge lays one node over another: mappings key by key, lists of named things
// by name, everything else as a whole.
func (d *document) merge(at string, under, over *yaml.Node) *yaml.Node {
	switch {
	case under.Kind == yaml.MappingNode && over.Kind == yaml.MappingNode:
		out := *over
		out.Content = nil
		for i := 0; i+1 < len(under.Content); i += 2 {
			k, v := under.Content[i], under.Content[i+1]
			if at == "" && k.Value == "extends" {
				continue
			}
			if ok, ov := child(over, k.Value); ok != nil {
				k, v = ok, d.merge(join(at, k.Value), v, ov)
			}
			out.Content = append(out.Content, k, v)
		}
		for i := 0; i+1 < len(over.Content); i += 2 {
			if at == "" && over.Content[i].Value == "extends" {
				continue // it is done
			}
			if k, _ := child(under, over.Content[i].Value); k == nil {
				out.Content = append(out.Content, over.Content[i], over.Content[i+1])
			}
		}
		d.origin[&out] = d.origin[over]
		return &out
	case under.Kind == yaml.SequenceNode && over.Kind == yaml.SequenceNode && slices.Contains(byName, at):
		out := *over
		out.Content = slices.Clone(under.Content)
		for _, o := range over.Content {
			_, name := child(o, "name")
			i := slices.IndexFunc(out.Content, func(u *yaml.Node) bool {
				_, n := child(u, "name")
				return n != nil && name != nil && n.Value == name.Value
			})
			if i < 0 {
				out.Content = append(out.Content, o)
			} else {
				out.Content[i] = d.merge(at+"[]", out.Content[i], o)
			}
		}
		d.origin[&out] = d.origin[over]
		return &out
	}
	return over
}

// decode reads a file with what it extends into out, which points to a struct.
func decode(fsys fs.FS, file string, data []byte, out any) *document {
	d := &document{file: file, places: map[string]place{}, origin: map[*yaml.Node]string{}}
	if d.root = d.load(fsys, file, data, nil); d.root != nil {
		d.fill(out)
	}
	return d
}

// Merged writes a declaration as it stands after extending, each value with a
// comment that says where it came from.
func (d *document) merged() (string, error) {
	if d.root == nil {
		return "", nil
	}
	b, err := yaml.Marshal(d.commented(d.root))
	if err != nil {
		return "", err
	}
	// The comments stand below each other, so that one reads what came from where.
	const column = 44
	var out strings.Builder
	for line := range strings.Lines(string(b)) {
		value, from, ok := cutLast(strings.TrimSuffix(line, "\n"), " # ")
		if ok {
			line = fmt.Sprintf("%-*s # %s\n", column, value, from)
		}
		out.WriteString(line)
	}
	return out.String(), nil
}

// cutLast is strings.Cut at the last place.
func cutLast(s, sep string) (before, after string, ok bool) {
	if i := strings.LastIndex(s, sep); i >= 0 {
		return s[:i], s[i+len(sep):], true
	}
	return s, "", false
}

func (d *document) commented(n *yaml.Node) *yaml.Node {
	out := *n
	out.HeadComment, out.FootComment, out.LineComment = "", "", ""
	out.Style = 0
	if n.Kind == yaml.ScalarNode {
		out.Style = n.Style &^ (yaml.LiteralStyle | yaml.FoldedStyle)
		out.LineComment = fmt.Sprintf("%s:%d", path.Base(d.origin[n]), n.Line)
		return &out
	}
	out.Content = nil
	for i, c := range n.Content {
		cc := d.commented(c)
		if n.Kind == yaml.MappingNode && i%2 == 0 {
			cc.LineComment = ""
		}
		out.Content = append(out.Content, cc)
	}
	return &out
}
