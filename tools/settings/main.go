// Settings writes the table of what each shipped minor of a component can be
// told: the flags and configuration keys, read from the published modules of
// Kubernetes and etcd with the Go parser. It needs the network or a filled
// module cache, and is run by hand when the catalogue gains a minor:
//
//	go run ./tools/settings > internal/core/versions/settings.txt
package main

import (
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
)

// patches are the newest shipped patch of each minor.
var patches = map[int]string{35: "4", 36: "3", 37: "2"}

const etcd = "go.etcd.io/etcd/server/v3@v3.7.3"

// source is a folder of a module, or some of its files, in which flags are
// registered.
type source struct {
	module, folder string
	files          []string // all if empty
}

var serving = []string{"serving.go", "serving_with_loopback.go", "authentication.go", "authorization.go"}

var common = []source{
	{"component-base", "featuregate", nil}, {"component-base", "logs/api/v1", nil}, {"component-base", "metrics", nil}, {"component-base", "compatibility", nil},
}

// elected is where leader election is registered.
var elected = source{"component-base", "config/options", nil}

var flagSources = map[string][]source{
	"kube-apiserver":          {{"kubernetes", "cmd/kube-apiserver/app/options", nil}, {"kubernetes", "pkg/controlplane/apiserver/options", nil}, {"kubernetes", "pkg/kubeapiserver/options", nil}, {"apiserver", "pkg/server/options", nil}},
	"kube-controller-manager": {{"kubernetes", "cmd/kube-controller-manager/app/options", nil}, {"controller-manager", "options", nil}, {"cloud-provider", "options", nil}, {"apiserver", "pkg/server/options", serving}, elected},
	"kube-scheduler":          {{"kubernetes", "cmd/kube-scheduler/app/options", nil}, {"apiserver", "pkg/server/options", serving}, elected},
}

var configs = map[string][3]string{
	"kubelet":        {"kubelet", "config/v1beta1", "KubeletConfiguration"},
	"kube-proxy":     {"kube-proxy", "config/v1alpha1", "KubeProxyConfiguration"},
	"kube-scheduler": {"kube-scheduler", "config/v1", "KubeSchedulerConfiguration"},
}

type setting struct{ component, kind, name string }

func main() {
	minors := map[setting][]int{}
	types := map[setting]string{}
	for _, minor := range []int{35, 36, 37} {
		note := func(component, kind, name, typ string) {
			s := setting{component, kind, name}
			if !slices.Contains(minors[s], minor) {
				minors[s] = append(minors[s], minor)
			}
			types[s] = typ
		}
		r := reader{minor: minor}
		for component, sources := range flagSources {
			for _, s := range slices.Concat(sources, common) {
				r.flags(s, func(name, typ string) { note(component, "flag", name, typ) })
			}
		}
		for component, c := range configs {
			r.keys(r.folder(c[0], c[1]), c[2], "", 0, func(name, typ string) { note(component, "config", name, typ) })
		}
		for _, t := range []string{"Config", "configJSON"} {
			r.keys(filepath.Join(download(etcd), "embed"), t, "", 0, func(name, typ string) { note("etcd", "config", name, typ) })
		}
	}
	all := []setting{}
	for s := range minors {
		all = append(all, s)
	}
	sort.Slice(all, func(i, j int) bool {
		a, b := all[i], all[j]
		return a.component+a.kind+a.name < b.component+b.kind+b.name
	})
	for _, s := range all {
		var ms []string
		for _, m := range minors[s] {
			ms = append(ms, strconv.Itoa(m))
		}
		fmt.Println(s.component, s.kind, s.name, types[s], strings.Join(ms, ","))
	}
}

var downloaded = map[string]string{}

// download finds a module in the cache, or fetches it.
func download(module string) string {
	if downloaded[module] != "" {
		return downloaded[module]
	}
	out, err := exec.Command("go", "mod", "download", "-json", module).Output()
	var m struct{ Dir string }
	if err == nil {
		err = json.Unmarshal(out, &m)
	}
	if err != nil {
		fmt.Fprintf(os.Stderr, "module %s: %v\n", module, err)
		os.Exit(1)
	}
	downloaded[module] = m.Dir
	return m.Dir
}

type reader struct{ minor int }

func (r reader) folder(module, folder string) string {
	major := "v0."
	if module == "kubernetes" {
		major = "v1."
	}
	return filepath.Join(download(fmt.Sprintf("k8s.io/%s@%s%d.%s", module, major, r.minor, patches[r.minor])), folder)
}

// parse reads the Go files of a folder, without tests.
func parse(folder string) []*ast.File {
	names, err := filepath.Glob(filepath.Join(folder, "*.go"))
	if err != nil || len(names) == 0 {
		return nil // a folder that this minor does not have
	}
	var files []*ast.File
	for _, n := range names {
		if strings.HasSuffix(n, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(token.NewFileSet(), n, nil, 0)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		files = append(files, f)
	}
	return files
}

// flagTypes maps the methods of a flag set to what a person may write.
func flagType(method string) string {
	m := strings.TrimSuffix(strings.TrimSuffix(method, "P"), "Var")
	switch {
	case m == "Bool":
		return "bool"
	case m == "Duration":
		return "duration"
	case strings.HasPrefix(m, "Int") || strings.HasPrefix(m, "Uint"):
		return "int"
	case strings.HasPrefix(m, "Float"):
		return "number"
	}
	return "text"
}

func (r reader) flags(s source, note func(name, typ string)) {
	folder := r.folder(s.module, s.folder)
	files := parse(folder)
	if len(s.files) > 0 {
		files = nil
		for _, n := range s.files {
			f, err := parser.ParseFile(token.NewFileSet(), filepath.Join(folder, n), nil, 0)
			if err == nil {
				files = append(files, f)
			}
		}
	}
	consts := map[string]string{}
	for _, f := range files {
		ast.Inspect(f, func(n ast.Node) bool {
			if v, ok := n.(*ast.ValueSpec); ok && len(v.Values) == len(v.Names) {
				for i, name := range v.Names {
					if t, ok := text(v.Values[i], nil); ok {
						consts[name.Name] = t
					}
				}
			}
			return true
		})
	}
	for _, f := range files {
		ast.Inspect(f, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok || len(call.Args) < 3 {
				return true
			}
			sel, ok := call.Fun.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			method := sel.Sel.Name
			at := 0
			if strings.HasSuffix(strings.TrimSuffix(method, "P"), "Var") {
				at = 1
			} else if recv, ok := sel.X.(*ast.Ident); !ok || recv.Name != "fs" && recv.Name != "flags" {
				return true
			}
			if name, ok := text(call.Args[at], consts); ok && name != "" && strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789-") == "" {
				note(name, flagType(method))
			}
			return true
		})
	}
}

// text is a string literal, or a constant of the same package.
func text(e ast.Expr, consts map[string]string) (string, bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		if e.Kind == token.STRING {
			s, err := strconv.Unquote(e.Value)
			return s, err == nil
		}
	case *ast.Ident:
		s, ok := consts[e.Name]
		return s, ok
	}
	return "", false
}

// keys walks a configuration type and notes its keys, nested ones with dots.
func (r reader) keys(folder, typ, prefix string, depth int, note func(name, typ string)) {
	files := parse(folder)
	for _, f := range files {
		for _, d := range f.Decls {
			g, ok := d.(*ast.GenDecl)
			if !ok {
				continue
			}
			for _, s := range g.Specs {
				if t, ok := s.(*ast.TypeSpec); ok && t.Name.Name == typ {
					if st, ok := t.Type.(*ast.StructType); ok && depth < 5 {
						r.fields(folder, f, st, prefix, depth, note)
					}
				}
			}
		}
	}
}

func (r reader) fields(folder string, f *ast.File, st *ast.StructType, prefix string, depth int, note func(name, typ string)) {
	for _, fd := range st.Fields.List {
		tag := ""
		if fd.Tag != nil {
			raw, _ := strconv.Unquote(fd.Tag.Value)
			for _, part := range strings.Fields(raw) {
				if v, ok := strings.CutPrefix(part, `json:"`); ok {
					tag = strings.TrimSuffix(v, `"`)
				}
			}
		}
		name, _, _ := strings.Cut(tag, ",")
		if name == "-" || name == "" && len(fd.Names) > 0 || name == "kind" || name == "apiVersion" {
			continue
		}
		kind, sub := describe(fd.Type)
		if name == "" {
			r.sub(folder, f, sub, prefix, depth, note)
			continue
		}
		if kind == "object" && !r.sub(folder, f, sub, prefix+name+".", depth+1, note) {
			kind = r.basic(folder, f, sub)
		}
		note(prefix+name, kind)
	}
}

// describe says what a type takes; of a named type also its expression.
func describe(e ast.Expr) (string, ast.Expr) {
	switch e := e.(type) {
	case *ast.StarExpr:
		return describe(e.X)
	case *ast.ArrayType:
		return "list", nil
	case *ast.MapType:
		return "map", nil
	case *ast.Ident:
		switch {
		case e.Name == "bool":
			return "bool", nil
		case e.Name == "string":
			return "text", nil
		case strings.HasPrefix(e.Name, "int") || strings.HasPrefix(e.Name, "uint"):
			return "int", nil
		case strings.HasPrefix(e.Name, "float"):
			return "number", nil
		}
		return "object", e
	case *ast.SelectorExpr:
		switch e.Sel.Name {
		case "Duration":
			return "duration", nil
		case "Time", "IntOrString":
			return "text", nil
		}
		return "object", e
	}
	return "any", nil
}

// locate finds the folder and the name of a named type.
func (r reader) locate(folder string, f *ast.File, e ast.Expr) (string, string) {
	switch e := e.(type) {
	case *ast.Ident:
		return folder, e.Name
	case *ast.SelectorExpr:
		pkg := e.X.(*ast.Ident).Name
		for _, i := range f.Imports {
			path, _ := strconv.Unquote(i.Path.Value)
			base := filepath.Base(path)
			if i.Name != nil {
				base = i.Name.Name
			}
			if rest, ok := strings.CutPrefix(path, "k8s.io/component-base/"); ok && base == pkg {
				return r.folder("component-base", rest), e.Sel.Name
			}
		}
	}
	return "", ""
}

// sub walks a named struct type; false if it is none.
func (r reader) sub(folder string, f *ast.File, e ast.Expr, prefix string, depth int, note func(name, typ string)) bool {
	in, name := r.locate(folder, f, e)
	if in == "" {
		return false
	}
	found := false
	r.keys(in, name, prefix, depth, func(n, t string) { found = true; note(n, t) })
	return found
}

// basic is what a named type that is no struct takes.
func (r reader) basic(folder string, f *ast.File, e ast.Expr) string {
	in, name := r.locate(folder, f, e)
	for _, file := range parse(in) {
		for _, d := range file.Decls {
			g, ok := d.(*ast.GenDecl)
			if !ok {
				continue
			}
			for _, s := range g.Specs {
				if t, ok := s.(*ast.TypeSpec); ok && t.Name.Name == name {
					if kind, _ := describe(t.Type); kind != "object" {
						return kind
					}
				}
			}
		}
	}
	return "any"
}
