package declare

import (
	"encoding"
	"fmt"
	"reflect"
	"sort"
	"strconv"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"
)

// fill decodes the document's nodes into out.
func (d *document) fill(out any) { d.value("", d.root, reflect.ValueOf(out).Elem()) }

// value decodes one node into v and records its place under path. It is long because it is
// a list, one kind of value after the other.
func (d *document) value(path string, n *yaml.Node, v reflect.Value) {
	at := d.at(n)
	if path != "" {
		d.places[path] = at
	}
	if n.Tag == "!!null" {
		d.addAt(at, "no-value", fmt.Sprintf("%s has no value", orRoot(path)), "give it one, or leave the key out for its default")
		return
	}
	wrong := func(want string) {
		d.addAt(at, "wrong-type", fmt.Sprintf("%s is %s, not %s", orRoot(path), describe(n), want), "write "+want)
	}
	if v.Kind() == reflect.Pointer {
		v.Set(reflect.New(v.Type().Elem()))
		v = v.Elem()
	}
	if u, ok := v.Addr().Interface().(encoding.TextUnmarshaler); ok {
		if n.Kind != yaml.ScalarNode {
			wrong("a single value")
		} else if err := u.UnmarshalText([]byte(n.Value)); err != nil {
			d.addAt(at, "bad-value", fmt.Sprintf("%s: %v", path, err), "write it like "+example(v.Type().Name()))
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
	case reflect.Bool:
		if n.Kind != yaml.ScalarNode || n.Tag != "!!bool" {
			wrong("true or false")
			return
		}
		v.SetBool(strings.EqualFold(n.Value, "true"))
	case reflect.Int:
		i, err := strconv.Atoi(n.Value)
		if n.Kind != yaml.ScalarNode || n.Tag != "!!int" || err != nil {
			wrong("a whole number")
			return
		}
		v.SetInt(int64(i))
	case reflect.Interface:
		var free any
		if err := n.Decode(&free); err != nil {
			wrong("a plain value")
			return
		}
		v.Set(reflect.ValueOf(free))
	case reflect.Slice:
		if n.Kind != yaml.SequenceNode {
			wrong("a list")
			return
		}
		v.Set(reflect.MakeSlice(v.Type(), len(n.Content), len(n.Content)))
		for i, c := range n.Content {
			d.value(path+"["+strconv.Itoa(i)+"]", c, v.Index(i))
		}
	case reflect.Map:
		if n.Kind != yaml.MappingNode {
			wrong("keys with values")
			return
		}
		v.Set(reflect.MakeMap(v.Type()))
		for i := 0; i+1 < len(n.Content); i += 2 {
			e := reflect.New(v.Type().Elem()).Elem()
			d.value(join(path, n.Content[i].Value), n.Content[i+1], e)
			v.SetMapIndex(reflect.ValueOf(n.Content[i].Value), e)
		}
	case reflect.Struct:
		if n.Kind != yaml.MappingNode {
			wrong("keys with values")
			return
		}
		fields, known := keysOf(v.Type())
		for i := 0; i+1 < len(n.Content); i += 2 {
			kn := n.Content[i]
			f, ok := fields[kn.Value]
			if !ok {
				todo := "known here: " + strings.Join(known, ", ")
				if near := Nearest(kn.Value, known); near != "" {
					todo = "did you mean " + near + "?"
				}
				d.addAt(d.at(kn), "unknown-key", fmt.Sprintf("unknown key %q in %s", kn.Value, orRoot(path)), todo)
				continue
			}
			d.value(join(path, kn.Value), n.Content[i+1], v.Field(f))
		}
	}
}

type keys struct {
	fields map[string]int
	known  []string
}

// keysByType is filled as types are met: a large file meets few of them often.
var keysByType sync.Map

// keysOf lists the keys of a struct type: the field of each, and all sorted.
func keysOf(t reflect.Type) (fields map[string]int, known []string) {
	if k, ok := keysByType.Load(t); ok {
		return k.(keys).fields, k.(keys).known
	}
	fields = map[string]int{}
	for i := range t.NumField() {
		name := t.Field(i).Tag.Get("yaml")
		fields[name] = i
		known = append(known, name)
	}
	sort.Strings(known)
	keysByType.Store(t, keys{fields, known})
	return fields, known
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
	case "Addr":
		return "192.0.2.40"
	case "Duration":
		return "2m, 90s or 365d"
	case "Count":
		return "3 or 2-6"
	case "Share":
		return "2 or 25%"
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
