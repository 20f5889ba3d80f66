package cli

import (
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
)

var updateDocs = flag.Bool("update-docs", false, "write the generated parts of docs anew")

// SaidBy is an empty value of what a command prints, for the tests of the built
// program.
func SaidBy(command string) any {
	for _, s := range said {
		if s.command == command {
			return reflect.New(reflect.TypeOf(s.value)).Interface()
		}
	}
	return nil
}

// comments reads what the fields of a package's types are said to be.
func comments(t *testing.T, pkg string, into map[string]string) {
	dir := "../../" + strings.TrimPrefix(pkg, "verbund/")
	ps, err := parser.ParseDir(token.NewFileSet(), dir, func(i fs.FileInfo) bool { return !strings.HasSuffix(i.Name(), "_test.go") }, parser.ParseComments)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range ps {
		for _, f := range p.Files {
			ast.Inspect(f, func(n ast.Node) bool {
				ts, ok := n.(*ast.TypeSpec)
				if !ok {
					return true
				}
				st, ok := ts.Type.(*ast.StructType)
				if !ok {
					return true
				}
				for _, fd := range st.Fields.List {
					text := strings.Join(strings.Fields(fd.Doc.Text()+" "+fd.Comment.Text()), " ")
					for _, name := range fd.Names {
						into[pkg+"."+ts.Name.Name+"."+name.Name] = text
					}
				}
				return true
			})
		}
	}
}

// titleOf is what a type is called: by its own name, and the package's where it is
// another one.
func titleOf(x reflect.Type) string {
	if pkg := path.Base(x.PkgPath()); pkg != "cli" {
		return pkg + " " + strings.ToLower(x.Name())
	}
	return strings.TrimSuffix(x.Name(), "Said")
}

// jsonDoc describes what every command prints, from the Go types.
func jsonDoc(t *testing.T) string {
	var b strings.Builder
	b.WriteString("# What commands print with `--output json`\n\nMade from the types in the program (`go test ./internal/cli -run TestJSONDoc -update-docs`).\nLists that are empty are `[]`; times are RFC 3339; a key that is marked *optional* is\nleft out when there is nothing to say. Keys are added over time; none changes its\nmeaning.\n")
	known, read := map[string]string{}, map[string]bool{}
	var types []reflect.Type
	queued := map[reflect.Type]bool{}
	var name func(reflect.Type) string
	name = func(x reflect.Type) string {
		switch {
		case x.PkgPath() == "time" && x.Name() == "Time":
			return "time"
		case x.PkgPath() == "net/netip":
			return "text"
		case strings.HasPrefix(x.PkgPath(), "k8s.io/"):
			return "Kubernetes' own " + x.Name()
		}
		switch x.Kind() {
		case reflect.Pointer:
			return name(x.Elem())
		case reflect.Slice, reflect.Array:
			if x.Elem().Kind() == reflect.Uint8 {
				return "text, base64"
			}
			return "list of " + name(x.Elem())
		case reflect.Map:
			return "object of " + name(x.Elem()) + ", by name"
		case reflect.String:
			return "text"
		case reflect.Bool:
			return "true or false"
		case reflect.Struct:
			if !queued[x] {
				queued[x] = true
				types = append(types, x)
			}
			return fmt.Sprintf("[%s](#%s)", titleOf(x), strings.ToLower(strings.ReplaceAll(titleOf(x), " ", "-")))
		case reflect.Interface:
			return "anything"
		}
		return "number"
	}
	b.WriteString("\n| command | prints |\n|---|---|\n")
	for _, s := range said {
		fmt.Fprintf(&b, "| `%s` | %s |\n", s.command, name(reflect.TypeOf(s.value)))
	}
	for i := 0; i < len(types); i++ {
		x := types[i]
		if !read[x.PkgPath()] && strings.HasPrefix(x.PkgPath(), "verbund/") {
			read[x.PkgPath()] = true
			comments(t, x.PkgPath(), known)
		}
		fmt.Fprintf(&b, "\n## %s\n\n| key | value | |\n|---|---|---|\n", titleOf(x))
		var fields func(x reflect.Type)
		fields = func(x reflect.Type) {
			if !read[x.PkgPath()] && strings.HasPrefix(x.PkgPath(), "verbund/") {
				read[x.PkgPath()] = true
				comments(t, x.PkgPath(), known)
			}
			for i := range x.NumField() {
				f := x.Field(i)
				if f.Anonymous {
					fields(f.Type)
					continue
				}
				key, opts, _ := strings.Cut(f.Tag.Get("json"), ",")
				if key == "-" || !f.IsExported() {
					continue
				}
				if key == "" {
					key = f.Name
				}
				text := known[x.PkgPath()+"."+x.Name()+"."+f.Name]
				if strings.Contains(opts, "omit") {
					text = strings.TrimSpace("*optional* " + text)
				}
				fmt.Fprintf(&b, "| `%s` | %s | %s |\n", key, name(f.Type), strings.ReplaceAll(text, "|", "\\|"))
			}
		}
		fields(x)
	}
	return b.String()
}

func TestJSONDoc(t *testing.T) {
	file := filepath.Join("..", "..", "docs", "json.md")
	want := jsonDoc(t)
	if *updateDocs {
		if err := os.WriteFile(file, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := os.ReadFile(file); err != nil || string(got) != want {
		t.Errorf("docs/json.md is not what the types say (%v); run go test ./internal/cli -run TestJSONDoc -update-docs", err)
	}
}
