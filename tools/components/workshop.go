package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"runtime"
	"strings"

	"golang.org/x/mod/modfile"
)

// workshop builds products, and keeps what it has built.
type workshop struct {
	keep string // folder
	root string // of this repository
}

// make returns the programs of a product, built or as they were kept.
func (w workshop) make(ctx context.Context, p product) ([]string, error) {
	if p.debian != "" {
		return w.unpack(ctx, p)
	}
	if p.module == "" {
		return w.own(ctx, p)
	}
	b, err := json.Marshal([]any{runtime.Version(), runtime.GOARCH, p.module, p.version, p.packages, p.flags})
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(b)
	dir := filepath.Join(w.keep, fmt.Sprintf("%s-%s-%x", p.name, p.version, sum[:6]))
	if files, err := kept(dir, p); err == nil {
		return files, nil
	}
	mod := filepath.Join(w.keep, strings.NewReplacer("/", "-", "@", "-").Replace(p.module+"@"+p.version))
	if err := prepare(ctx, mod, p); err != nil {
		return nil, err
	}
	tmp := dir + ".new"
	if err := build(ctx, mod, tmp, p); err != nil {
		return nil, err
	}
	if err := errors.Join(os.RemoveAll(dir), os.Rename(tmp, dir)); err != nil {
		return nil, err
	}
	return kept(dir, p)
}

// kept finds the programs of a product in a folder that was finished.
func kept(dir string, p product) ([]string, error) {
	var out []string
	for _, pkg := range p.packages {
		f := filepath.Join(dir, nameOf(p, pkg))
		if _, err := os.Stat(f); err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

// nameOf is what the program of a package is called.
func nameOf(p product, pkg string) string {
	if p.rename != "" {
		return p.rename
	}
	return path.Base(pkg)
}

// build builds the packages of a product in the folder of a module.
func build(ctx context.Context, mod, to string, p product) error {
	mode := "-mod=mod" // what a product needs is written down where it is built
	if p.module == "" {
		mode = "-mod=readonly"
	}
	for _, pkg := range p.packages {
		c := goCommand(ctx, mod, append([]string{"build", mode, "-trimpath", "-ldflags", strings.Join(append([]string{"-s", "-w"}, p.flags...), " "), "-o", filepath.Join(to, nameOf(p, pkg))}, pkg)...)
		if out, err := c.CombinedOutput(); err != nil {
			return fmt.Errorf("building %s: %w: %s", pkg, err, bytes.TrimSpace(out))
		}
	}
	return nil
}

func goCommand(ctx context.Context, dir string, args ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, "go", args...)
	c.Dir = dir
	c.Env = append(os.Environ(), "CGO_ENABLED=0", "GOWORK=off", "GOFLAGS=")
	return c
}

// own builds a program of this repository.
func (w workshop) own(ctx context.Context, p product) ([]string, error) {
	dir := filepath.Join(w.keep, "own", p.name+"-"+p.version)
	from := w.root
	if strings.HasPrefix(p.packages[0], "verbund/tools/components") {
		from = filepath.Join(w.root, "tools/components")
	}
	if err := build(ctx, from, dir, p); err != nil {
		return nil, err
	}
	return kept(dir, p)
}

// prepare makes a module that needs the product's, in the versions that it was released with.
func prepare(ctx context.Context, mod string, p product) error {
	if err := os.MkdirAll(mod, 0o755); err != nil {
		return err
	}
	c := goCommand(ctx, os.TempDir(), "mod", "download", "-json", p.module+"@"+p.version)
	out, err := c.Output()
	var got struct{ Dir, GoMod, Error string }
	if jerr := json.Unmarshal(out, &got); jerr != nil || err != nil {
		return fmt.Errorf("fetching %s %s: %w %s", p.module, p.version, errors.Join(err, jerr), got.Error)
	}
	b, err := os.ReadFile(got.GoMod)
	if err != nil {
		return err
	}
	theirs, err := modfile.Parse("go.mod", b, nil)
	if err != nil {
		return err
	}
	f := new(modfile.File)
	if err := errors.Join(f.AddModuleStmt("built"), f.AddGoStmt(theirs.Go.Version), f.AddRequire(p.module, p.version)); err != nil {
		return err
	}
	if p.staged {
		// Its parts lie beside it in its own repository; published, they have version 0.
		staged := "v0." + strings.SplitN(p.version, ".", 2)[1]
		for _, r := range theirs.Replace {
			if strings.HasPrefix(r.New.Path, "./") {
				if err := f.AddReplace(r.Old.Path, "", r.Old.Path, staged); err != nil {
					return err
				}
			}
		}
	}
	text, err := f.Format()
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(mod, "go.mod"), text, 0o644)
}

// unpack takes a program out of a package of Debian.
func (w workshop) unpack(ctx context.Context, p product) ([]string, error) {
	dir := filepath.Join(w.keep, "debian", p.debian)
	if err := errors.Join(os.RemoveAll(dir), os.MkdirAll(dir, 0o755)); err != nil {
		return nil, err
	}
	if out, err := run(ctx, dir, "apt-get", "download", p.debian); err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	debs, err := filepath.Glob(filepath.Join(dir, "*.deb"))
	if err != nil || len(debs) != 1 {
		return nil, fmt.Errorf("apt-get download %s brought %d packages", p.debian, len(debs))
	}
	if out, err := run(ctx, dir, "dpkg-deb", "-x", debs[0], "."); err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	return []string{filepath.Join(dir, p.program)}, nil
}

// packed is the version of a package of Debian.
func packed(ctx context.Context, name string) (string, error) {
	out, err := run(ctx, os.TempDir(), "apt-cache", "show", "--no-all-versions", name)
	if err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	for l := range strings.Lines(out) {
		if v, ok := strings.CutPrefix(l, "Version: "); ok {
			return upstream(strings.TrimSpace(v))
		}
	}
	return "", fmt.Errorf("apt-cache does not say the version of %s", name)
}

func run(ctx context.Context, dir, name string, args ...string) (string, error) {
	c := exec.CommandContext(ctx, name, args...)
	c.Dir = dir
	out, err := c.CombinedOutput()
	return strings.TrimSpace(string(out)), err
}
