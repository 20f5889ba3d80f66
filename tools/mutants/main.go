// Mutants changes guards and comparisons of Go files one at a time, runs the tests of
// their package with each change, and prints those changes that no test notices. It
// changes no file: the compiler is shown the changed one in the place of the other.
//
//	go run ./tools/mutants [-timeout 2m] [-only TEXT] FILE…
//
// A guard is an if that leaves: it is taken to be false. A comparison is turned round, an
// and becomes an or, a not is left out. Whether an error is nil is left alone: what no test
// can bring about says nothing. Run by hand: it takes as long as the tests, many times.
package main

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// mutant is one change of a file: what stands from one byte to another is replaced.
type mutant struct {
	from, to int
	with     string
	line     int
	what     string // for a person
}

// turned is the opposite of each comparison, and the other of two words.
var turned = map[token.Token]token.Token{
	token.EQL: token.NEQ, token.NEQ: token.EQL, token.LSS: token.GEQ, token.GEQ: token.LSS, token.GTR: token.LEQ, token.LEQ: token.GTR,
	token.LAND: token.LOR, token.LOR: token.LAND,
}

// mutants finds the changes of a file, in its order.
func mutants(name string, src []byte) ([]mutant, error) {
	set := token.NewFileSet()
	f, err := parser.ParseFile(set, name, src, parser.SkipObjectResolution)
	if err != nil {
		return nil, err
	}
	var out []mutant
	add := func(from, to token.Pos, with, what string) {
		p := set.Position(from)
		out = append(out, mutant{p.Offset, set.Position(to).Offset, with, p.Line, what})
	}
	text := func(n ast.Node) string {
		return string(src[set.Position(n.Pos()).Offset:set.Position(n.End()).Offset])
	}
	ast.Inspect(f, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.IfStmt:
			if leaves(n.Body) && !aboutError(n.Cond) {
				add(n.Cond.Pos(), n.Cond.End(), "false && ("+text(n.Cond)+")", "without the guard: if "+short(text(n.Cond)))
			}
		case *ast.BinaryExpr:
			if to, ok := turned[n.Op]; ok && !aboutError(n) {
				add(n.OpPos, n.OpPos+token.Pos(len(n.Op.String())), to.String(), fmt.Sprintf("%s instead of %s: %s", to, n.Op, short(text(n))))
			}
		case *ast.UnaryExpr:
			if n.Op == token.NOT {
				add(n.OpPos, n.OpPos+1, "", "without the not: "+short(text(n)))
			}
		}
		return true
	})
	slices.SortStableFunc(out, func(a, b mutant) int { return cmp.Compare(a.from, b.from) })
	return out, nil
}

// leaves says whether a block ends by leaving where it stands.
func leaves(b *ast.BlockStmt) bool {
	if len(b.List) == 0 {
		return false
	}
	switch b.List[len(b.List)-1].(type) {
	case *ast.ReturnStmt, *ast.BranchStmt:
		return true
	}
	return false
}

// aboutError says whether a condition asks nothing but whether an error is nil.
func aboutError(e ast.Expr) bool {
	b, ok := e.(*ast.BinaryExpr)
	if !ok || b.Op != token.NEQ && b.Op != token.EQL {
		return false
	}
	x, isName := b.X.(*ast.Ident)
	y, isNil := b.Y.(*ast.Ident)
	return isName && isNil && y.Name == "nil" && strings.HasSuffix(strings.ToLower(x.Name), "err")
}

// short is a condition in one line of bounded length.
func short(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if len(s) > 90 {
		s = s[:90] + "…"
	}
	return s
}

// The ends of a mutant.
const (
	noticed  = "noticed"
	survived = "survived"
	unbuilt  = "does not compile"
)

// try runs the tests of the file's package with one change.
func try(file string, src []byte, m mutant, timeout time.Duration) (string, error) {
	dir, err := os.MkdirTemp("", "mutant-*")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	abs, err := filepath.Abs(file)
	if err != nil {
		return "", err
	}
	changed, overlay := filepath.Join(dir, "changed.go"), filepath.Join(dir, "overlay.json")
	b, err := json.Marshal(map[string]map[string]string{"Replace": {abs: changed}})
	if err != nil {
		return "", err
	}
	text := slices.Concat(src[:m.from], []byte(m.with), src[m.to:])
	if err := errors.Join(os.WriteFile(changed, text, 0o644), os.WriteFile(overlay, b, 0o644)); err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(context.Background(), timeout+time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "go", "test", "-overlay", overlay, "-failfast", "-timeout", timeout.String(), ".")
	cmd.Dir = filepath.Dir(abs)
	said, err := cmd.CombinedOutput()
	switch {
	case err == nil:
		return survived, nil
	case bytes.Contains(said, []byte("[build failed]")), bytes.Contains(said, []byte("[setup failed]")):
		return unbuilt, nil
	}
	return noticed, nil
}

func main() {
	timeout := flag.Duration("timeout", 2*time.Minute, "how long the tests of a package may take")
	only := flag.String("only", "", "only changes whose description holds this")
	flag.Parse()
	if flag.NArg() == 0 {
		flag.Usage()
		os.Exit(2)
	}
	ends := map[string]int{}
	for _, file := range flag.Args() {
		src, err := os.ReadFile(file)
		if err == nil {
			var ms []mutant
			if ms, err = mutants(file, src); err == nil {
				err = all(file, src, ms, *only, *timeout, ends)
			}
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, "error:", err)
			os.Exit(1)
		}
	}
	fmt.Printf("%d were noticed, %d survived, %d do not compile\n", ends[noticed], ends[survived], ends[unbuilt])
	if ends[survived] > 0 {
		os.Exit(1)
	}
}

func all(file string, src []byte, ms []mutant, only string, timeout time.Duration, ends map[string]int) error {
	for _, m := range ms {
		if !strings.Contains(m.what, only) {
			continue
		}
		end, err := try(file, src, m, timeout)
		if err != nil {
			return err
		}
		if ends[end]++; end == survived {
			fmt.Printf("%s:%d: %s\n", file, m.line, m.what)
		}
	}
	return nil
}
