package look

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/pem"
	"regexp"
	"strings"
	"sync"

	"verbund/internal/engine/session"
	"verbund/internal/site"
)

// Secrets lists what must never leave: private keys in every form in which
// they could be written down, and the site's credential.
func Secrets(s *session.Session) ([][]byte, error) {
	t, err := s.Trust()
	if err != nil {
		return nil, err
	}
	var out [][]byte
	// A private key is written down with its public half, which certificates
	// show to everybody: those lines are no secret.
	var public bytes.Buffer
	for _, c := range t.Certs {
		public.Write(bytes.ReplaceAll(c, []byte("\n"), nil))
	}
	for _, k := range t.Keys {
		if p, _ := pem.Decode(k); p != nil {
			lines := bytes.Split(bytes.TrimSpace(k), []byte("\n"))
			for _, l := range lines[1 : len(lines)-1] {
				if len(l) > 16 && !bytes.Contains(public.Bytes(), l) {
					out = append(out, l)
				}
			}
			out = append(out, p.Bytes, []byte(base64.StdEncoding.EncodeToString(p.Bytes)))
		} else {
			out = append(out, k, []byte(base64.StdEncoding.EncodeToString(k)))
		}
	}
	return append(out, s.Site.Secrets()...), nil
}

// secretForms are what looks like a secret, whosesoever it is: private keys,
// bearer tokens, enrolment tokens, passwords in URLs.
var secretForms = []*regexp.Regexp{
	regexp.MustCompile(`(?s)-----BEGIN [A-Z ]*PRIVATE KEY-----.*?(-----END [A-Z ]*PRIVATE KEY-----|$)`),
	regexp.MustCompile(`eyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}`),
	regexp.MustCompile(`\b[a-z0-9]{6}\.[a-z0-9]{16}\b`),
	regexp.MustCompile(`://[^/\s:@]+:[^/\s:@]+@`),
	regexp.MustCompile(`AGE-SECRET-KEY-1[0-9A-Z]+`),
}

const redacted = "(secret taken out)"

// Redact takes out of a text whatever is or looks like a secret, and counts it.
func Redact(text []byte, secrets [][]byte) ([]byte, int) {
	n := 0
	for _, f := range secretForms {
		text = f.ReplaceAllFunc(text, func([]byte) []byte { n++; return []byte(redacted) })
	}
	for _, s := range secrets {
		if k := bytes.Count(text, s); k > 0 && len(s) > 0 {
			n += k
			text = bytes.ReplaceAll(text, s, []byte(redacted))
		}
	}
	return text, n
}

// Leaks says what secret a text still holds, or nothing.
func Leaks(text []byte, secrets [][]byte) string {
	for _, f := range secretForms {
		if f.Match(text) {
			return "something that looks like a secret"
		}
	}
	for _, s := range secrets {
		if len(s) > 0 && bytes.Contains(text, s) {
			return "a secret of the cluster"
		}
	}
	return ""
}

// AllLogs reads the last lines of the console and of every service of every
// machine, by MACHINE/UNIT. What cannot be read is said in place of its lines.
func AllLogs(ctx context.Context, s *session.Session, v *View, lines int) map[string][]string {
	out := map[string][]string{}
	var mu sync.Mutex
	var wg sync.WaitGroup
	limit := make(chan struct{}, max(s.Parallel, 1))
	for _, im := range v.Inventory.Machines {
		if im.Cluster != v.Cluster.Name {
			continue
		}
		wg.Go(func() {
			limit <- struct{}{}
			defer func() { <-limit }()
			got := logsOf(ctx, s, im, lines)
			mu.Lock()
			defer mu.Unlock()
			for unit, l := range got {
				out[im.Name+"/"+strings.TrimSuffix(unit, ".service")] = l
			}
		})
	}
	wg.Wait()
	return out
}

func logsOf(ctx context.Context, s *session.Session, im site.Machine, lines int) map[string][]string {
	out := map[string][]string{}
	if im.Power != site.PowerOn {
		con, err := s.Site.Console(ctx, im.Name)
		if err != nil {
			con = err.Error()
		}
		out["console"] = strings.Split(strings.TrimSpace(con), "\n")
		return out
	}
	ctx, cancel := context.WithTimeout(ctx, session.LookTimeout)
	defer cancel()
	m, err := s.Machine(ctx, im.Name, im.SSHPort)
	if err != nil {
		out["console"] = []string{err.Error()}
		return out
	}
	units := []string{""}
	us, err := m.Units(ctx)
	if err != nil {
		out["units"] = []string{err.Error()}
	}
	for _, u := range us {
		units = append(units, u.Name)
	}
	for _, u := range units {
		l, err := m.Logs(ctx, u, lines)
		if err != nil {
			l = []string{err.Error()}
		}
		if u == "" {
			u = "console"
		}
		out[u] = l
	}
	return out
}
