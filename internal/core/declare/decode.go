package declare

import (
	"bytes"
	"encoding"
	"errors"
	"fmt"
	"io"
	"reflect"
	"regexp"
	"sort"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// MaxBytes is the largest file that is read. A declaration of a thousand
// machines is a few kilobytes; anything near the limit is another kind of file.
const MaxBytes = 1 << 20

// place is where a value stands in its file.
type place struct{ line, column int }

// document is a decoded file: its places by path, and what was found.
type document struct {
	file     string
	places   map[string]place
	Findings Findings
}

// add records a finding at the place of a path, or of its nearest parent that
// was written.
func (d *document) add(path string, sev Severity, rule, what, todo string) {
	p := path
	for {
		if at, ok := d.places[p]; ok {
			d.addAt(at, sev, rule, what, todo)
			return
		}
		i := strings.LastIndexAny(p, ".[")
		if i < 0 {
			d.addAt(place{1, 1}, sev, rule, what, todo)
			return
		}
		p = p[:i]
	}
}

func (d *document) addAt(at place, sev Severity, rule, what, todo string) {
	d.Findings = append(d.Findings, Finding{File: d.file, Line: at.line, Column: at.column, Severity: sev, Rule: rule, What: what, Todo: todo})
}

// has says whether a path was written in the file.
func (d *document) has(path string) bool { _, ok := d.places[path]; return ok }

var yamlLine = regexp.MustCompile(`line (\d+)(?:, column (\d+))?`)

// decode reads one YAML document into out, which points to a struct.
func decode(file string, data []byte, out any) *document {
	d := &document{file: file, places: map[string]place{}}
	start := place{1, 1}
	if len(data) > MaxBytes {
		d.addAt(start, Error, "file-too-large", fmt.Sprintf("the file has %d bytes, more than the %d that are read", len(data), MaxBytes), "check that it is the right file")
		return d
	}
	dec := yaml.NewDecoder(bytes.NewReader(data))
	var root, more yaml.Node
	err := dec.Decode(&root)
	if errors.Is(err, io.EOF) || err == nil && (len(root.Content) == 0 || root.Content[0].Tag == "!!null") {
		d.addAt(start, Error, "file-empty", "the file holds no document", "write a declaration, or let draft write one")
		return d
	}
	if err != nil {
		at := start
		if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
			at.line, _ = strconv.Atoi(m[1])
			if m[2] != "" {
				at.column, _ = strconv.Atoi(m[2])
			}
		}
		d.addAt(at, Error, "not-yaml", "this is not YAML: "+strings.TrimPrefix(err.Error(), "yaml: "), "mend the syntax at this line or just above it")
		return d
	}
	if dec.Decode(&more) == nil {
		d.addAt(place{more.Line, more.Column}, Error, "two-documents", "a second document begins here", "keep one document a file")
	}
	d.value("", root.Content[0], reflect.ValueOf(out).Elem(), 0)
	return d
}

// value decodes one node into v and records its place under path.
func (d *document) value(path string, n *yaml.Node, v reflect.Value, depth int) {
	at := place{n.Line, n.Column}
	if path != "" {
		d.places[path] = at
	}
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		d.addAt(at, Error, "no-anchors", "anchors and aliases are not read", "write the value out")
		return
	}
	if n.Tag == "!!null" {
		d.addAt(at, Error, "no-value", fmt.Sprintf("%s has no value", orRoot(path)), "give it one, or leave the key out for its default")
		return
	}
	wrong := func(want string) {
		d.addAt(at, Error, "wrong-type", fmt.Sprintf("%s is %s, not %s", orRoot(path), describe(n), want), "write "+want)
	}
	if v.Kind() == reflect.Pointer {
		v.Set(reflect.New(v.Type().Elem()))
		v = v.Elem()
	}
	if u, ok := v.Addr().Interface().(encoding.TextUnmarshaler); ok {
		if n.Kind != yaml.ScalarNode {
			wrong("a single value")
		} else if err := u.UnmarshalText([]byte(n.Value)); err != nil {
			d.addAt(at, Error, "bad-value", fmt.Sprintf("%s: %v", path, err), "write it like "+example(v.Type().Name()))
		}
		return
	}
	switch v.Kind() {
	case reflect.String:
		if n.Kind != yaml.ScalarNode || n.Tag == "!!bool" || n.Tag == "!!int" || n.Tag == "!!float" {
			wrong("text (put it in quotes if it is)")
			return
		}
		v.SetString(n.Value)
	case reflect.Int:
		i, err := strconv.Atoi(n.Value)
		if n.Kind != yaml.ScalarNode || n.Tag != "!!int" || err != nil {
			wrong("a whole number")
			return
		}
		v.SetInt(int64(i))
	case reflect.Slice:
		if n.Kind != yaml.SequenceNode {
			wrong("a list")
			return
		}
		v.Set(reflect.MakeSlice(v.Type(), len(n.Content), len(n.Content)))
		for i, c := range n.Content {
			d.value(fmt.Sprintf("%s[%d]", path, i), c, v.Index(i), depth+1)
		}
	case reflect.Map:
		if n.Kind != yaml.MappingNode {
			wrong("keys with values")
			return
		}
		v.Set(reflect.MakeMap(v.Type()))
		d.entries(path, n, func(key string, kn, vn *yaml.Node) {
			e := reflect.New(v.Type().Elem()).Elem()
			d.value(join(path, key), vn, e, depth+1)
			v.SetMapIndex(reflect.ValueOf(key), e)
		})
	case reflect.Struct:
		if n.Kind != yaml.MappingNode {
			wrong("keys with values")
			return
		}
		fields := map[string]int{}
		var known []string
		for i := range v.NumField() {
			name := v.Type().Field(i).Tag.Get("yaml")
			fields[name] = i
			known = append(known, name)
		}
		sort.Strings(known)
		d.entries(path, n, func(key string, kn, vn *yaml.Node) {
			i, ok := fields[key]
			if !ok {
				todo := "known here: " + strings.Join(known, ", ")
				if near := Nearest(key, known); near != "" {
					todo = "did you mean " + near + "?"
				}
				d.addAt(place{kn.Line, kn.Column}, Error, "unknown-key", fmt.Sprintf("unknown key %q in %s", key, orRoot(path)), todo)
				return
			}
			d.value(join(path, key), vn, v.Field(i), depth+1)
		})
	}
}

// entries visits the pairs of a mapping, refusing keys that are given twice.
func (d *document) entries(path string, n *yaml.Node, visit func(key string, kn, vn *yaml.Node)) {
	seen := map[string]int{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		kn, vn := n.Content[i], n.Content[i+1]
		if kn.Kind != yaml.ScalarNode {
			d.addAt(place{kn.Line, kn.Column}, Error, "bad-key", "a key has to be plain text", "write a name before the colon")
			continue
		}
		if line, dup := seen[kn.Value]; dup {
			d.addAt(place{kn.Line, kn.Column}, Error, "key-twice", fmt.Sprintf("key %q stands twice in %s, first on line %d", kn.Value, orRoot(path), line), "keep one of them")
			continue
		}
		seen[kn.Value] = kn.Line
		visit(kn.Value, kn, vn)
	}
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

func orRoot(path string) string {
	if path == "" {
		return "the document"
	}
	return path
}

func describe(n *yaml.Node) string {
	switch {
	case n.Kind == yaml.MappingNode:
		return "a group of keys"
	case n.Kind == yaml.SequenceNode:
		return "a list"
	case n.Tag == "!!bool":
		return "the truth value " + n.Value
	case n.Tag == "!!int" || n.Tag == "!!float":
		return "the number " + n.Value
	}
	return fmt.Sprintf("the text %q", n.Value)
}

func example(typ string) string {
	switch typ {
	case "Prefix":
		return "10.172.0.0/15"
	case "Duration":
		return "2m or 90s"
	}
	return "512MiB or 8GiB"
}

// Nearest returns the known word that is at most two edits, and less than half
// its length, away from word; or nothing.
func Nearest(word string, known []string) string {
	best, bestD := "", 3
	for _, k := range known {
		if e := edits(strings.ToLower(word), strings.ToLower(k)); e < bestD && 2*e < max(len(word), len(k)) {
			best, bestD = k, e
		}
	}
	return best
}

// edits counts insertions, deletions, replacements and swaps of neighbours
// that lead from one word to another.
func edits(a, b string) int {
	before, last := make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row := make([]int, len(b)+1)
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last = last, row
	}
	return last[len(b)]
}
