package host

import (
	"bufio"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"verbund/internal/agent"
	"verbund/internal/sim/serve"
)

// FuzzAgent sends an agent whatever there is: it answers or hangs up, and touches nothing
// outside its machine's disk.
func FuzzAgent(f *testing.F) {
	for _, m := range []string{
		`{"jsonrpc":"2.0","id":1,"method":"facts"}`,
		`{"jsonrpc":"2.0","id":1,"method":"files.put","params":{"files":[{"path":"/../../x","mode":420,"content":"eA=="}],"remove":["/..","/etc/x"]}}`,
		`{"jsonrpc":"2.0","id":1,"method":"files.read","params":{"paths":["/","../..","/etc/hosts"]}}`,
		`{"jsonrpc":"2.0","id":1,"method":"files.list","params":{"paths":["/../.."]}}`,
		`{"jsonrpc":"2.0","id":1,"method":"keys.show","params":{"paths":["/[","/*","/../../*"]}}`,
		`{"jsonrpc":"2.0","id":1,"method":"slots.switch","params":{"slot":"b","units":["x"]}}`,
		`{"jsonrpc":"2.0","id":1,"method":"slots.prepare","params":{"slot":"../.."}}`,
		`{"jsonrpc":"2.0","id":1,"method":"units.start","params":{"units":["../x.service",""]}}`,
		`{"jsonrpc":"2.0","id":1,"method":"logs","params":{"unit":"../../x","lines":-1}}`,
		`[]`, `{`, `null`, "\x00",
	} {
		f.Add([]byte(m))
	}
	f.Fuzz(func(t *testing.T, line []byte) {
		outside := t.TempDir()
		root := filepath.Join(outside, "a", "disk")
		h := &Host{Spec: Spec{Name: "m", Root: root, Disk: 1 << 20}}
		if err := os.MkdirAll(root, 0o755); err != nil {
			t.Fatal(err)
		}
		h.manager = newManager(h)
		ours, theirs := net.Pipe()
		done := make(chan struct{})
		go func() { defer close(done); agent.Serve(theirs, system{h, func() {}}) }()
		go io.Copy(io.Discard, ours)
		ours.SetWriteDeadline(time.Now().Add(5 * time.Second))
		ours.Write(append([]byte(strings.ReplaceAll(string(line), "\n", " ")), '\n'))
		ours.Close()
		select {
		case <-done:
		case <-time.After(20 * time.Second):
			t.Fatal("the agent does not end")
		}
		for _, dir := range []string{outside, filepath.Join(outside, "a")} {
			if es, err := os.ReadDir(dir); err != nil || len(es) != 1 {
				t.Errorf("outside of its disk: %v, %v", es, err)
			}
		}
	})
}

// FuzzUnit reads unit files: what is read starts something by its path.
func FuzzUnit(f *testing.F) {
	f.Add([]byte("[Unit]\nDescription=x\n[Service]\nType=notify\nExecStart=/opt/verbund/active/bin/etcd \\\n  --a='b c'\nRestart=always\n[Install]\nWantedBy=multi-user.target\n"))
	f.Add([]byte("[Service]\nExecStart=\n"))
	f.Add([]byte("ExecStart=x\n[\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		if d, err := parseUnit("x.service", text); err == nil && d == nil {
			t.Error("neither a unit nor an error")
		}
	})
}

// FuzzStream reads first lines of streams between machines.
func FuzzStream(f *testing.F) {
	f.Add("10.172.0.9:80\n")
	f.Add(strings.Repeat("1", 1000))
	f.Fuzz(func(t *testing.T, s string) {
		if l, err := serve.Line(bufio.NewReader(strings.NewReader(s)), mostAddress); err == nil && (len(l) > mostAddress || !strings.HasPrefix(s, l+"\n")) {
			t.Errorf("%q of %q", l, s)
		}
	})
}
