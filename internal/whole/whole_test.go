package whole_test

import (
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"verbund/internal/whole"
)

// TestMain also is the process whose disk is full.
func TestMain(m *testing.M) {
	if path := os.Getenv("WRITE_ON_FULL_DISK"); path != "" {
		signal.Ignore(syscall.SIGXFSZ)
		if err := syscall.Setrlimit(syscall.RLIMIT_FSIZE, &syscall.Rlimit{Cur: 1000, Max: 1000}); err != nil {
			os.Exit(3)
		}
		if err := whole.Write(path, make([]byte, 5000), 0o600); err != nil {
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// What cannot be written whole leaves what was there, and nothing beside it.
func TestWrite(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "inventory")
	for _, text := range []string{"one", "another"} {
		if err := whole.Write(path, []byte(text), 0o640); err != nil {
			t.Fatal(err)
		}
		b, err := os.ReadFile(path)
		if i, serr := os.Stat(path); err != nil || serr != nil || string(b) != text || i.Mode() != 0o640 {
			t.Errorf("%q with %v, %v, %v", b, i.Mode(), err, serr)
		}
	}
	child := exec.Command(os.Args[0])
	child.Env = append(os.Environ(), "WRITE_ON_FULL_DISK="+path)
	if out, err := child.CombinedOutput(); child.ProcessState.ExitCode() != 1 {
		t.Fatalf("a write that cannot be whole ended with %v\n%s", err, out)
	}
	b, err := os.ReadFile(path)
	left, _ := os.ReadDir(dir)
	if err != nil || string(b) != "another" || len(left) != 1 {
		t.Errorf("%q, %v; %d files", b, err, len(left))
	}
	link := filepath.Join(t.TempDir(), "link")
	if err := os.Symlink(path, link); err != nil {
		t.Fatal(err)
	}
	if err := whole.Write(link, []byte("through a link"), 0o600); err != nil {
		t.Fatal(err)
	}
	i, err := os.Lstat(link)
	if b, rerr := os.ReadFile(path); err != nil || rerr != nil || i.Mode().IsRegular() || string(b) != "through a link" {
		t.Errorf("%q, %v, %v; the link is %v", b, err, rerr, i.Mode())
	}
	if err := whole.Write(filepath.Join(dir, "none", "file"), nil, 0o600); err == nil {
		t.Error("a file in a folder that is not there was written")
	}
}

// A file on its way is one's own while it is open; what others have left is taken away, but not
// what somebody still writes, nor what is called otherwise.
func TestPartial(t *testing.T) {
	dir := t.TempDir()
	mine, err := whole.Partial(filepath.Join(dir, "a.x"), ".x")
	if err != nil {
		t.Fatal(err)
	}
	defer mine.Close()
	if _, err := whole.Partial(filepath.Join(dir, "a.x"), ".x"); err == nil {
		t.Error("two write the same file")
	}
	for _, left := range []string{"b.x.part", "b.y.part"} {
		if err := os.WriteFile(filepath.Join(dir, left), []byte("half"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	other, err := whole.Partial(filepath.Join(dir, "c.x"), ".x")
	if err != nil {
		t.Fatal(err)
	}
	other.Close()
	for name, there := range map[string]bool{"a.x.part": true, "b.x.part": false, "b.y.part": true, "c.x.part": true} {
		if _, err := os.Stat(filepath.Join(dir, name)); (err == nil) != there {
			t.Errorf("%s: %v", name, err)
		}
	}
	// One that was longer before begins at nothing.
	long, err := whole.Partial(filepath.Join(dir, "b.y"), ".x")
	if err != nil {
		t.Fatal(err)
	}
	defer long.Close()
	if i, err := long.Stat(); err != nil || i.Size() != 0 {
		t.Errorf("%d bytes, %v", i.Size(), err)
	}
}

// A pipe is no file that holds something, and nobody waits for who writes into it; nor is a
// folder or a device.
func TestReadWaitsForNobody(t *testing.T) {
	dir := t.TempDir()
	pipe, file := filepath.Join(dir, "pipe"), filepath.Join(dir, "file")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte("text"), 0o600); err != nil {
		t.Fatal(err)
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		for _, p := range []string{pipe, dir, "/dev/zero"} {
			if b, err := whole.Read(p); !errors.Is(err, whole.ErrIrregular) {
				t.Errorf("%s: %d bytes, %v", p, len(b), err)
			}
		}
	}()
	select {
	case <-done:
	case <-time.After(time.Minute):
		t.Fatal("it waits")
	}
	if b, err := whole.Read(file); err != nil || string(b) != "text" {
		t.Errorf("%q, %v", b, err)
	}
	if b, err := fs.ReadFile(whole.Files(dir), "file"); err != nil || string(b) != "text" {
		t.Errorf("%q, %v", b, err)
	}
	if _, err := fs.ReadFile(whole.Files(dir), "../file"); !errors.Is(err, fs.ErrInvalid) {
		t.Errorf("out of the folder: %v", err)
	}
	if _, err := fs.ReadFile(whole.Files(dir), "none"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("what is not there: %v", err)
	}
	long := filepath.Join(dir, "long")
	if err := errors.Join(os.WriteFile(long, nil, 0o600), os.Truncate(long, 1<<40)); err != nil {
		t.Skip(err)
	}
	if _, err := whole.Read(long); !errors.Is(err, whole.ErrTooLong) {
		t.Errorf("a file without end: %v", err)
	}
}

// A log goes on where it was, until it is large; then the one before is what it was.
func TestLog(t *testing.T) {
	file := filepath.Join(t.TempDir(), "site.log")
	say := func(text string) {
		t.Helper()
		f, err := whole.Log(file)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		if _, err := f.WriteString(text); err != nil {
			t.Fatal(err)
		}
	}
	holds := func(name, want string) {
		t.Helper()
		b, err := os.ReadFile(name)
		if got := strings.TrimRight(string(b), "\x00"); err != nil || got != want {
			t.Errorf("%s holds %.80q, %v", name, got, err)
		}
	}
	say("high\n")
	say("low\n")
	holds(file, "high\nlow\n")
	for _, words := range []string{"high\nlow\n", "fog\n"} {
		if err := os.Truncate(file, whole.MostLog+1); err != nil {
			t.Fatal(err)
		}
		say("fog\n")
		holds(file, "fog\n")
		holds(file+".earlier", words)
	}
}

// A log that is written to is set aside when it has become large, and not before; nothing that was
// written is lost. A pipe, and a file whose name another one has, are left alone.
func TestCut(t *testing.T) {
	file := filepath.Join(t.TempDir(), "site.log")
	f, err := whole.Log(file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	say := func(text string) {
		t.Helper()
		if err := whole.Cut(f); err != nil {
			t.Fatal(err)
		}
		if _, err := f.WriteString(text); err != nil {
			t.Fatal(err)
		}
	}
	holds := func(name, want string) {
		t.Helper()
		b, err := os.ReadFile(name)
		if got := strings.ReplaceAll(string(b), "\x00", ""); err != nil || got != want {
			t.Errorf("%s holds %.80q, %v", name, got, err)
		}
	}
	say("high\n")
	say("low\n")
	holds(file, "high\nlow\n")
	if err := os.Truncate(file, whole.MostLog+1); err != nil {
		t.Fatal(err)
	}
	say("fog\n")
	say("rain\n")
	holds(file, "fog\nrain\n")
	holds(file+".earlier", "high\nlow\n")
	if err := errors.Join(os.Truncate(file, whole.MostLog+1), os.Remove(file), os.WriteFile(file, []byte("another's\n"), 0o600)); err != nil {
		t.Fatal(err)
	}
	say("snow\n")
	holds(file, "another's\n")
	if all := whole.Named(filepath.Dir(file), ""); len(all) != 2 {
		t.Errorf("there are %q", all)
	}
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	defer w.Close()
	if err := whole.Cut(w); err != nil {
		t.Error(err)
	}
}
