package declare

import (
	"encoding/json"
	"net/netip"
	"reflect"
	"strings"
)

// The address of each schema is a name, not a place: nothing is served there.
const schemaHome = "https://verbund.test/schemas/"

// patterns of values that are written as text, by their type.
var patterns = map[reflect.Type]string{
	reflect.TypeFor[Duration]():     `^([1-9][0-9]*d|([0-9]+(\.[0-9]+)?(ns|us|µs|ms|s|m|h))+)$`,
	reflect.TypeFor[Bytes]():        `^[1-9][0-9]*(MiB|GiB)$`,
	reflect.TypeFor[netip.Prefix](): `^[0-9a-fA-F.:]+/[0-9]+$`,
	reflect.TypeFor[netip.Addr]():   `^[0-9a-fA-F.:]+$`,
}

// numbers are types that are a number, or text of a pattern.
var numbers = map[reflect.Type]string{
	reflect.TypeFor[Count](): `^[0-9]+(-[0-9]+)?$`,
	reflect.TypeFor[Share](): `^[0-9]+%?$`,
}

// DeclarationSchema is the JSON Schema (draft 2020-12) of declarations, made
// from the types that the decoder fills. In a file that extends another
// everything but extends may be left out.
func DeclarationSchema() ([]byte, error) {
	s := schemaOf(reflect.TypeFor[Declaration]())
	s["anyOf"] = []any{map[string]any{"required": s["required"]}, map[string]any{"required": []string{"extends"}}}
	delete(s, "required")
	return document2020(s, "declaration", "A cluster as its owner wants it")
}

// SiteFileSchema is the JSON Schema (draft 2020-12) of site files.
func SiteFileSchema() ([]byte, error) {
	return document2020(schemaOf(reflect.TypeFor[Site]()), "site", "Where machines come from")
}

func document2020(s map[string]any, name, title string) ([]byte, error) {
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["$id"] = schemaHome + name + ".schema.json"
	s["title"] = title
	b, err := json.MarshalIndent(s, "", "  ")
	return append(b, '\n'), err
}

// schemaOf describes one type.
func schemaOf(t reflect.Type) map[string]any {
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if p, ok := patterns[t]; ok {
		return map[string]any{"type": "string", "pattern": p}
	}
	if p, ok := numbers[t]; ok {
		return map[string]any{"anyOf": []any{map[string]any{"type": "integer", "minimum": 0}, map[string]any{"type": "string", "pattern": p}}}
	}
	switch t.Kind() {
	case reflect.String:
		return map[string]any{"type": "string"}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int:
		return map[string]any{"type": "integer"}
	case reflect.Slice:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem())}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": schemaOf(t.Elem())}
	case reflect.Struct:
		props, required := map[string]any{}, []string{}
		for i := range t.NumField() {
			f := t.Field(i)
			key := f.Tag.Get("yaml")
			p := schemaOf(f.Type)
			p["description"] = f.Tag.Get("doc")
			if def := f.Tag.Get("def"); def != "" {
				p["description"] = f.Tag.Get("doc") + " (default: " + def + ")"
			}
			if one := f.Tag.Get("oneof"); one != "" {
				p["enum"] = strings.Split(one, ",")
			}
			props[key] = p
			if f.Tag.Get("need") != "" {
				required = append(required, key)
			}
		}
		s := map[string]any{"type": "object", "properties": props, "additionalProperties": false}
		if len(required) > 0 {
			s["required"] = required
		}
		return s
	}
	return map[string]any{} // anything
}
