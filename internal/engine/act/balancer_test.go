package act

import (
	"context"
	"strings"
	"testing"

	"verbund/internal/engine/session"
)

// spoken is a balancer that says something.
type spoken struct {
	session.Machine
	says string
}

func (s spoken) Ask(context.Context, string, string) (string, error) { return s.says, nil }

// The columns of HAProxy's statistics are found by their names: there are about ninety, and
// more with every version.
func TestServers(t *testing.T) {
	const head = "# pxname,svname,qcur,status,weight,\n"
	ss, err := servers(t.Context(), spoken{says: head + "api,FRONTEND,,OPEN,,\napi,control-1,0,UP,100,\napi,control-2,0,DOWN 1/2,100,\napi,control-3,0,UP 1/3,0,\napi,control-4,0,MAINT,1,\nport-8080,gauges-1,0,no check,1,\napi,BACKEND,0,UP,200,\n\n"})
	if err != nil {
		t.Fatal(err)
	}
	got := ""
	for _, s := range ss {
		got += s.backend + "/" + s.name + map[bool]string{true: " up, ", false: " down, "}[s.up]
	}
	if got != "api/control-1 up, api/control-2 down, api/control-3 up, api/control-4 down, port-8080/gauges-1 up, " {
		t.Error(got)
	}
	for _, bad := range []string{"", "Unknown command", "# pxname,svname,\napi,x,\n", "# pxname,svname,status\na,b\n"} {
		if ss, err := servers(t.Context(), spoken{says: bad}); err == nil {
			t.Errorf("%q: %+v", bad, ss)
		}
	}
	if pid := balancing(t.Context(), spoken{says: "Name: HAProxy\nVersion: 2.6.12\nPid: 210\n"}); pid != "210" {
		t.Errorf("worker %q", pid)
	}
	if pid := balancing(t.Context(), spoken{says: strings.Repeat("x", 9)}); pid != "" {
		t.Errorf("worker %q", pid)
	}
}
