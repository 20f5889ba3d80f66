package host

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"verbund/internal/machine/protocol"
)

// probe is a program that says that it is ready and does what it is told, as a unit.
const probe = `package main

import (
	"fmt"
	"net"
	"os"
	"os/signal"
	"syscall"
)

func main() {
	if len(os.Args) > 1 && os.Args[1] == "--fail" {
		fmt.Println("no such flag")
		os.Exit(7)
	}
	stop := make(chan os.Signal, 1)
	signal.Notify(stop, syscall.SIGTERM)
	es, _ := os.ReadDir("/")
	fmt.Println("its root has", len(es), "entries")
	c, err := net.Dial("unixgram", os.Getenv("NOTIFY_SOCKET"))
	if err != nil {
		panic(err)
	}
	c.Write([]byte("STATUS=well\nREADY=1"))
	<-stop
	fmt.Println("told to end")
}
`

// A real program has the machine's disk as its root, is ready when it says so, is told to end
// with its unit, and ends with the machine's power; one that is not for such a machine is
// refused in words.
func TestProcess(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can give a process another root")
	}
	dir := t.TempDir()
	if err := errors.Join(os.WriteFile(filepath.Join(dir, "main.go"), []byte(probe), 0o644), os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module probe\ngo 1.25\n"), 0o644)); err != nil {
		t.Fatal(err)
	}
	build := exec.Command("go", "build", "-o", "probe", ".")
	build.Dir, build.Env = dir, append(os.Environ(), "CGO_ENABLED=0", "GOFLAGS=")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	program, err := os.ReadFile(filepath.Join(dir, "probe"))
	if err != nil {
		t.Fatal(err)
	}
	h, a := boot(t)
	h.Spec.Disk = 1 << 30
	unit := func(name, arg string) {
		t.Helper()
		text := "[Service]\nType=notify\nExecStart=/opt/verbund/active/bin/" + name + " " + arg + "\n"
		at := protocol.SlotDir + "a"
		if err := errors.Join(h.WriteFile(at+"/units/"+name+".service", []byte(text), 0o644), h.WriteFile(at+"/bin/"+name, program, 0o755), h.WriteFile(at+"/bin/"+name+".version", []byte("v1.37.2"), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	unit("kube-scheduler", "--serve")
	unit("kube-apiserver", "--fail")
	unit("kubelet", "--serve")
	if r, err := ask[protocol.SwitchReply](a, protocol.SlotsSwitch, protocol.SwitchRequest{Slot: "a"}); err != nil || r.FellBack != "" {
		t.Fatalf("%+v, %v", r, err)
	}
	start := func(name string) error {
		_, err := ask[bool](a, protocol.UnitsStart, protocol.UnitsRequest{Units: []string{name + ".service"}})
		return err
	}
	if err := start("kube-scheduler"); err != nil {
		t.Fatal(err)
	}
	if s := state(t, h, "kube-scheduler.service"); s.State != "active" || !s.Real || s.Version != "v1.37.2" || s.Program != "kube-scheduler" {
		t.Errorf("%+v", s)
	}
	if err := start("kube-apiserver"); err == nil || !strings.Contains(err.Error(), "exit code 7") {
		t.Errorf("one that fails: %v", err)
	}
	if err := start("kubelet"); err == nil || !strings.Contains(err.Error(), "a real kubelet needs a machine that is a real system") {
		t.Errorf("one that is not for such a machine: %v", err)
	}
	if v, err := (system{h, nil}).Version("/opt/verbund/active/bin/kubelet"); err != nil || v != "v1.37.2" {
		t.Errorf("its version: %q, %v", v, err)
	}
	roots := func() (n int) {
		ps, err := filepath.Glob("/proc/[0-9]*/root")
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range ps {
			if to, err := os.Readlink(p); err == nil && to == h.Spec.Root {
				n++
			}
		}
		return n
	}
	log := func() string {
		b, err := h.ReadFile("/var/log/units/kube-scheduler.service.log")
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	if n := roots(); n != 1 {
		t.Errorf("%d processes have the machine's disk as their root", n)
	}
	if _, err := ask[bool](a, protocol.UnitsStop, protocol.UnitsRequest{Units: []string{"kube-scheduler.service"}}); err != nil {
		t.Error(err)
	}
	if n, l := roots(), log(); n != 0 || strings.Count(l, "told to end") != 1 || !strings.Contains(l, "its root has") {
		t.Errorf("stopped, %d are left, and it said %s", n, l)
	}
	if err := start("kube-scheduler"); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	off := make(chan struct{})
	go func() { h.Off(true); close(off) }()
	select {
	case <-off:
	case <-ctx.Done():
		t.Fatal("the machine does not lose its power")
	}
	if n, l := roots(), log(); n != 0 || strings.Count(l, "told to end") != 1 {
		t.Errorf("without power %d are left, and it said %s", n, l)
	}
}
