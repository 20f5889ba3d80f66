package declare

import (
	"fmt"
	"net/netip"
	"reflect"
	"strings"
)

// Reference is the list of every key, its type, default and example, in
// Markdown, made from the types that the decoder fills.
func Reference() string {
	var b strings.Builder
	b.WriteString("## Keys of a declaration\n")
	section(&b, "", reflect.TypeFor[Declaration]())
	b.WriteString("\n## Keys of a site file\n")
	section(&b, "", reflect.TypeFor[Site]())
	b.WriteString("\n## Rules\n\n| rule | severity | found when | open to exceptions |\n|---|---|---|---|\n")
	for _, r := range Rules {
		what := r.What
		if r.Living {
			what = "before a roll-out: " + what
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", r.ID, r.Severity, what, map[bool]string{true: "yes"}[r.Open])
	}
	return b.String()
}

func section(b *strings.Builder, path string, t reflect.Type) {
	if path != "" {
		fmt.Fprintf(b, "\n### `%s`\n", path)
	}
	b.WriteString("\n| key | type | default | what | example |\n|---|---|---|---|---|\n")
	type sub struct {
		path string
		t    reflect.Type
	}
	var subs []sub
	for i := range t.NumField() {
		f := t.Field(i)
		key := f.Tag.Get("yaml")
		def := f.Tag.Get("def")
		if f.Tag.Get("need") != "" {
			def = "**needed**"
		}
		eg := f.Tag.Get("eg")
		if eg != "" {
			eg = "`" + eg + "`"
		}
		word, next, suffix := typeWord(f.Type)
		if one := f.Tag.Get("oneof"); one != "" {
			word = "`" + strings.ReplaceAll(one, ",", "`, `") + "`"
		}
		if next != nil {
			subs = append(subs, sub{strings.TrimPrefix(path+"."+key+suffix, "."), next})
			word += fmt.Sprintf(", see `%s`", subs[len(subs)-1].path)
		}
		fmt.Fprintf(b, "| `%s` | %s | %s | %s | %s |\n", key, word, def, f.Tag.Get("doc"), eg)
	}
	for _, s := range subs {
		section(b, s.path, s.t)
	}
}

// typeWord names a type; next is the struct whose keys are listed under it.
func typeWord(t reflect.Type) (word string, next reflect.Type, suffix string) {
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch t {
	case reflect.TypeFor[Duration]():
		return "time span", nil, ""
	case reflect.TypeFor[Bytes]():
		return "amount", nil, ""
	case reflect.TypeFor[netip.Prefix]():
		return "range", nil, ""
	case reflect.TypeFor[netip.Addr]():
		return "address", nil, ""
	case reflect.TypeFor[Count](), reflect.TypeFor[Share]():
		return "number or text", nil, ""
	}
	switch t.Kind() {
	case reflect.String:
		return "text", nil, ""
	case reflect.Bool:
		return "`true`, `false`", nil, ""
	case reflect.Int:
		return "number", nil, ""
	case reflect.Slice:
		w, n, s := typeWord(t.Elem())
		return "list of " + w, n, "[]" + s
	case reflect.Map:
		w, n, s := typeWord(t.Elem())
		return w + " by name", n, ".NAME" + s
	case reflect.Struct:
		return "keys", t, ""
	}
	return "anything", nil, ""
}
