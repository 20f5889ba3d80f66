package serve

import (
	"bufio"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"strings"
	"testing"
	"time"
)

func TestSuites(t *testing.T) {
	ids, err := Suites([]string{"TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256", "TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256"})
	if err != nil || len(ids) != 2 || ids[0] != tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256 {
		t.Errorf("%v, %v", ids, err)
	}
	for _, bad := range []string{"", "TLS_NONE", "TLS_RSA_WITH_RC4_128_SHA", "TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA256"} {
		if ids, err := Suites([]string{bad}); err == nil {
			t.Errorf("%q is %v", bad, ids)
		}
	}
}

// A line that never ends is not kept.
func TestLine(t *testing.T) {
	r := bufio.NewReader(strings.NewReader("10.172.0.9:80\nrest"))
	if l, err := Line(r, 20); l != "10.172.0.9:80" || err != nil {
		t.Errorf("%q, %v", l, err)
	}
	if l, err := Line(r, 20); l != "rest" || !errors.Is(err, io.EOF) {
		t.Errorf("%q, %v", l, err)
	}
	if l, err := Line(bufio.NewReader(strings.NewReader(strings.Repeat("x", 100))), 20); l != "" || !errors.Is(err, ErrLong) {
		t.Errorf("%q, %v", l, err)
	}
}

// Whoever says nothing is hung up on; whoever speaks from time to time is not.
func TestQuiet(t *testing.T) {
	a, b := net.Pipe()
	defer b.Close()
	q := Quiet(a, 200*time.Millisecond)
	go func() {
		for range 3 {
			time.Sleep(100 * time.Millisecond)
			b.Write([]byte("x"))
		}
	}()
	got, err := io.ReadAll(q)
	var ne net.Error
	if string(got) != "xxx" || !errors.As(err, &ne) || !ne.Timeout() {
		t.Errorf("%q, %v", got, err)
	}
	if Quiet(a, 0) != a {
		t.Error("without a limit it is wrapped all the same")
	}
}

func TestHTTPHasLimits(t *testing.T) {
	if s := HTTP(nil); s.ReadHeaderTimeout == 0 || s.IdleTimeout == 0 {
		t.Errorf("%+v", s)
	}
}
