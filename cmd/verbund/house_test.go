package main

import (
	"encoding/json"
	"errors"
	"go/ast"
	"go/importer"
	"go/parser"
	"go/token"
	"go/types"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

type listed struct {
	ImportPath string
	Imports    []string
	Deps       []string
}

func list(t *testing.T) []listed {
	t.Helper()
	cmd := exec.Command("go", "list", "-json=ImportPath,Imports,Deps", "verbund/...")
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("go list: %v", err)
	}
	var all []listed
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p listed
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			return all
		} else if err != nil {
			t.Fatal(err)
		}
		all = append(all, p)
	}
}

const in = "verbund/internal/"

func room(path string) string {
	r, ok := strings.CutPrefix(path, in)
	if !ok {
		return ""
	}
	r, _, _ = strings.Cut(r, "/")
	return r
}

// The arrows between the rooms run one way; docs/architecture.md says why.
func TestHouseArrows(t *testing.T) {
	may := map[string][]string{
		"core":      {"core"},
		"whole":     {},
		"backup":    {},
		"engine":    {"core", "engine", "machine", "kube", "kubeapi", "datastore", "site", "store", "backup", "probe", "whole"},
		"probe":     {"core"},
		"machine":   {"core", "machine"},
		"kube":      {"core", "kube", "kubeapi"},
		"kubeapi":   {"kubeapi"},
		"datastore": {"core", "datastore"},
		"store":     {"backup", "core", "datastore", "store", "whole"},
		"site":      {"core", "site", "whole"},
		"report":    {"report"},
		"agent":     {"agent", "core", "machine", "whole"},
		"unit":      {"backup", "core", "datastore", "kubeapi", "unit", "whole"},
		"fairway":   {"kubeapi", "whole"},
		"sim":       {"agent", "core", "kubeapi", "sim", "machine", "site", "unit", "whole"},
		"cli":       {"core", "engine", "machine", "kube", "kubeapi", "datastore", "site", "store", "report", "sim", "cli", "backup", "whole", "agent", "unit"},
	}
	seen := 0
	for _, p := range list(t) {
		from := room(p.ImportPath)
		if from == "" {
			continue
		}
		seen++
		allowed, ok := may[from]
		if !ok {
			t.Errorf("%s: room %s is not in the plan of the house", p.ImportPath, from)
		}
		for _, i := range p.Imports {
			to := room(i)
			hands := strings.HasSuffix(i, "test") && strings.HasSuffix(p.ImportPath, "test") // both are a test's
			if to != "" && !hands && !slices.Contains(allowed, to) {
				t.Errorf("%s imports %s: %s must not know %s", p.ImportPath, i, from, to)
			}
			// What is in a test's hands stays there.
			if to != "" && strings.HasSuffix(i, "test") && !strings.HasSuffix(p.ImportPath, "test") {
				t.Errorf("%s imports %s, which is for tests", p.ImportPath, i)
			}
			// The simulated site shares the protocols with the tool, nothing else.
			if (from == "sim" || from == "agent") && (to == "machine" || to == "site") && !strings.HasSuffix(i, "/protocol") && !strings.HasSuffix(p.ImportPath, "test") {
				t.Errorf("%s imports %s: the site knows only the protocols", p.ImportPath, i)
			}
			if from == "sim" && strings.HasPrefix(i, in+"core/plan") {
				t.Errorf("%s imports %s: the site must not know plans", p.ImportPath, i)
			}
		}
	}
	if seen < 10 {
		t.Fatalf("only %d packages were looked at", seen)
	}
}

// What was taken out of the program, since it cost more than it did, does not come back by the way:
// docs/architecture.md has the figures.
func TestHouseLinked(t *testing.T) {
	heavy := map[string]string{
		"k8s.io/client-go/kubernetes":                "clients of every group of every version; internal/kubeapi has those of the groups that are used",
		"k8s.io/client-go/informers":                 "caches of every resource; a client of internal/kubeapi has its own",
		"k8s.io/client-go/listers":                   "as the informers",
		"k8s.io/client-go/applyconfigurations":       "as the clients",
		"k8s.io/client-go/discovery":                 "the scheme of every group; ask by the REST client",
		"k8s.io/client-go/tools/leaderelection":      "the clients of every group; internal/unit leads by a lease",
		"k8s.io/client-go/metadata/metadatainformer": "the informers; internal/kubeapi keeps metadata",
		"gonum.org/v1/plot/font/liberation":          "twelve fonts, of which one is written in",
		"k8s.io/api/extensions":                      "a group that no version serves any more",
		"k8s.io/api/resource":                        "a group that is not used",
		"k8s.io/api/flowcontrol":                     "a group that is not used",
	}
	seen := 0
	for _, p := range list(t) {
		if p.ImportPath != "verbund/cmd/verbund" {
			continue
		}
		for _, d := range p.Deps {
			seen++
			for h, why := range heavy {
				if d == h || strings.HasPrefix(d, h+"/") {
					t.Errorf("the program links %s: %s", d, why)
				}
			}
		}
	}
	if seen < 500 {
		t.Fatalf("only %d packages were looked at", seen)
	}
}

// Inside the engine the rooms stand on each other in one order, and none knows a terminal.
func TestHouseEngine(t *testing.T) {
	order := []string{"session", "vouch", "keep", "look", "kubeconfig", "gauge", "prove", "act", "converge", "drill"}
	seen := 0
	for _, p := range list(t) {
		name, ok := strings.CutPrefix(p.ImportPath, in+"engine/")
		if !ok || strings.HasSuffix(name, "test") {
			continue
		}
		at := slices.Index(order, name)
		if at < 0 {
			t.Errorf("engine/%s is not in the plan of the house", name)
		}
		seen++
		for _, i := range p.Imports {
			if to, ok := strings.CutPrefix(i, in+"engine/"); ok && slices.Index(order, to) >= at {
				t.Errorf("engine/%s imports engine/%s, which does not stand below it", name, to)
			}
			if strings.Contains(i, "cobra") || strings.Contains(i, "lipgloss") || i == "golang.org/x/term" {
				t.Errorf("engine/%s imports %s: the engine knows no terminal", name, i)
			}
			if i == in+"site/protocol" || i == in+"site/simulated" {
				t.Errorf("engine/%s imports %s: it knows a site only by what every site is", name, i)
			}
		}
	}
	if seen != len(order) {
		t.Errorf("%d rooms of %d were looked at", seen, len(order))
	}
}

// The interface: the terminal knows no cluster, the desk has no command, and no command's
// room knows another one's.
func TestHouseInterface(t *testing.T) {
	seen := 0
	for _, p := range list(t) {
		name, ok := strings.CutPrefix(p.ImportPath, in+"cli/")
		if !ok {
			continue
		}
		seen++
		for _, i := range p.Imports {
			to, within := strings.CutPrefix(i, in+"cli/")
			switch {
			case name == "term" && room(i) != "" && room(i) != "core":
				t.Errorf("cli/term imports %s: the terminal knows no cluster", i)
			case name == "desk" && within && to != "term", within && to != "term" && to != "desk":
				t.Errorf("cli/%s imports cli/%s", name, to)
			}
		}
	}
	if seen < 9 {
		t.Fatalf("only %d rooms were looked at", seen)
	}
}

// The core computes: no network, no files, no terminal, no goroutines' tools.
func TestHouseCoreIsPure(t *testing.T) {
	barred := []string{"os", "os/exec", "net", "net/http", "syscall", "os/signal", "log", "math/rand", "math/rand/v2", "crypto/rand"}
	for _, p := range list(t) {
		if room(p.ImportPath) != "core" {
			continue
		}
		for _, i := range p.Imports {
			// net is needed for the type of an address in a certificate.
			if slices.Contains(barred, i) && !(i == "net" && strings.HasSuffix(p.ImportPath, "/trust")) {
				t.Errorf("%s imports %s", p.ImportPath, i)
			}
		}
	}
}

// The core has no clock and nothing that runs beside it: time comes in as an argument, and
// what should use all processors is handed out as work.
func TestHouseCoreHasNoClock(t *testing.T) {
	files := 0
	err := filepath.WalkDir("../../internal/core", func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(p, ".go") || strings.HasSuffix(p, "_test.go") {
			return err
		}
		files++
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, p, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.GoStmt:
				t.Errorf("%s: something runs beside the core", set.Position(n.Pos()))
			case *ast.SelectorExpr:
				if x, ok := n.X.(*ast.Ident); ok && x.Name == "time" && slices.Contains([]string{"Now", "Since", "Until", "Sleep", "After", "AfterFunc", "NewTimer", "NewTicker", "Tick"}, n.Sel.Name) {
					t.Errorf("%s: time.%s in the core", set.Position(n.Pos()), n.Sel.Name)
				}
			}
			return true
		})
		return nil
	})
	if err != nil || files < 20 {
		t.Fatalf("%d files, %v", files, err)
	}
}

// What the core gives out is the same every time: what is gathered from a map, whose order is
// none, is sorted before it leaves the function.
func TestHouseCoreIsOrdered(t *testing.T) {
	out, err := exec.Command("go", "list", "-export", "-deps", "-f", "{{.ImportPath}}\t{{.Export}}", "verbund/internal/core/...").Output()
	if err != nil {
		t.Fatalf("go list: %v", err)
	}
	exports := map[string]string{}
	var core []string
	for line := range strings.Lines(string(out)) {
		path, file, _ := strings.Cut(strings.TrimSpace(line), "\t")
		if exports[path] = file; room(path) == "core" {
			core = append(core, path)
		}
	}
	set := token.NewFileSet()
	imports := importer.ForCompiler(set, "gc", func(path string) (io.ReadCloser, error) { return os.Open(exports[path]) })
	ranges := 0
	for _, path := range core {
		names, err := filepath.Glob(filepath.Join("../..", strings.TrimPrefix(path, "verbund/"), "*.go"))
		if err != nil {
			t.Fatal(err)
		}
		var files []*ast.File
		for _, name := range names {
			if strings.HasSuffix(name, "_test.go") {
				continue
			}
			f, err := parser.ParseFile(set, name, nil, parser.SkipObjectResolution)
			if err != nil {
				t.Fatal(err)
			}
			files = append(files, f)
		}
		info := &types.Info{Types: map[ast.Expr]types.TypeAndValue{}}
		if _, err := (&types.Config{Importer: imports}).Check(path, set, files, info); err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			for _, d := range f.Decls {
				fd, ok := d.(*ast.FuncDecl)
				if !ok || fd.Body == nil {
					continue
				}
				gathered, sorted := token.NoPos, false
				ast.Inspect(fd, func(n ast.Node) bool {
					switch n := n.(type) {
					case *ast.RangeStmt:
						if _, ok := info.TypeOf(n.X).Underlying().(*types.Map); ok {
							if ranges++; gathers(n.Body) {
								gathered = n.Pos()
							}
						}
					case *ast.SelectorExpr:
						if x, ok := n.X.(*ast.Ident); ok && (x.Name == "slices" || x.Name == "sort") && strings.HasPrefix(n.Sel.Name, "Sort") {
							sorted = true
						}
					}
					return true
				})
				if gathered != token.NoPos && !sorted {
					t.Errorf("%s: %s gathers from a map, and does not sort", set.Position(gathered), fd.Name.Name)
				}
			}
		}
	}
	if ranges < 5 {
		t.Fatalf("only %d loops over maps were looked at", ranges)
	}
}

// gathers says whether a loop's body puts things one after the other: into a list or a text.
func gathers(body ast.Node) bool {
	found := false
	ast.Inspect(body, func(n ast.Node) bool {
		c, ok := n.(*ast.CallExpr)
		if !ok {
			return true
		}
		switch f := c.Fun.(type) {
		case *ast.Ident:
			found = found || f.Name == "append"
		case *ast.SelectorExpr:
			found = found || strings.HasPrefix(f.Sel.Name, "Write") || strings.HasPrefix(f.Sel.Name, "Fprint")
		}
		return true
	})
	return found
}

// A function that is longer than a screen says why.
func TestHouseLongFunctions(t *testing.T) {
	const screen = 80 // lines
	files := 0
	err := filepath.WalkDir("../..", func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(p, ".go") || strings.HasSuffix(p, "_test.go") {
			return err
		}
		files++
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, p, nil, parser.ParseComments|parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		for _, d := range f.Decls {
			fd, ok := d.(*ast.FuncDecl)
			if !ok {
				continue
			}
			lines := set.Position(fd.End()).Line - set.Position(fd.Pos()).Line + 1
			why := strings.Join(strings.Fields(fd.Doc.Text()), " ")
			if lines > screen && !strings.Contains(strings.ToLower(why), "it is long because") {
				t.Errorf("%s: %s has %d lines, and does not say why", set.Position(fd.Pos()), fd.Name.Name, lines)
			}
		}
		return nil
	})
	if err != nil || files < 150 {
		t.Fatalf("%d files, %v", files, err)
	}
}

// Every package says what it is for.
func TestHouseDocs(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}}\t{{.Doc}}", "verbund/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(out)) {
		p, doc, _ := strings.Cut(strings.TrimSpace(line), "\t")
		if doc == "" {
			t.Errorf("package %s has no comment that says what it is for", p)
		}
	}
}
