package agent

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"time"
)

// healthPatience is how long a program that was started may take until it is well.
const healthPatience = time.Minute

// well waits until a unit's program says at a URL that it is well. One that has failed, or
// was started once more meanwhile, has not come up.
func (a *agent) well(ctx context.Context, unit, url string) error {
	ctx, cancel := context.WithTimeout(ctx, healthPatience)
	defer cancel()
	// Whose certificate it shows is not asked: what is wanted to know is whether it serves.
	c := &http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
		DialContext: func(ctx context.Context, network, addr string) (net.Conn, error) {
			return a.sys.Dial(ctx, network, addr)
		}}}
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	before := a.unit(ctx, unit).Restarts
	for {
		said, err := ask(ctx, c, url)
		if err == nil && said == "" {
			return nil
		}
		if err != nil {
			said = err.Error()
		}
		// Between two runs its last one still shows how it ended.
		if u := a.unit(ctx, unit); u.State == "failed" || u.Restarts > before || u.State != "active" && u.ExitCode != 0 {
			return fmt.Errorf("unit %s: exit code %d: %s", unit, u.ExitCode, u.Last)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return fmt.Errorf("unit %s runs, and is not well: %s says %s", unit, url, said)
		}
	}
}

// ask asks a URL; what it says is empty when all is well there.
func ask(ctx context.Context, c *http.Client, url string) (said string, err error) {
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return "", err
	}
	r, err := c.Do(q)
	if err != nil {
		return "", err
	}
	defer r.Body.Close()
	b, _ := io.ReadAll(io.LimitReader(r.Body, 200))
	if r.StatusCode == http.StatusOK {
		return "", nil
	}
	return r.Status + ": " + strings.TrimSpace(string(b)), nil
}
