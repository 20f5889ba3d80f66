// Package simulated is the client of a site whose machines are simulated, and its start
// as a process of its own.
package simulated

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"verbund/internal/site"
	"verbund/internal/site/protocol"
	"verbund/internal/whole"
)

// Client talks to one site.
type Client struct {
	Folder string // the site's own folder
	http   *http.Client
}

// answerTimeout is how long the site may take to say what it has.
const answerTimeout = 10 * time.Second

// credentialFile is what the site made for whoever may use it.
const credentialFile = "credential"

// NewClient is a client of the site in a folder.
func NewClient(folder string) *Client {
	c := &Client{Folder: folder}
	c.http = &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 16, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		// The folder is opened first because a socket's path may not be longer
		// than 107 bytes.
		d, err := os.Open(folder)
		if err != nil {
			return nil, err
		}
		defer d.Close()
		var dl net.Dialer
		return dl.DialContext(ctx, "unix", fmt.Sprintf("/proc/self/fd/%d/socket", d.Fd()))
	}}}
	return c
}

func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	cred, err := os.ReadFile(filepath.Join(c.Folder, credentialFile))
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("%w: it was never started here", site.ErrNotRunning)
	}
	if err != nil {
		return fmt.Errorf("credential of the site: %w", err)
	}
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, "http://site"+path, body)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(cred)))
	resp, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() == nil && c.gone(err) {
			return site.ErrNotRunning
		}
		return fmt.Errorf("asking the site: %w", plainly(err))
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		r := &site.Refused{Status: resp.StatusCode}
		var said protocol.Refusal
		if json.NewDecoder(resp.Body).Decode(&said) == nil {
			r.What, r.Todo, r.Code = said.What, said.Todo, said.Code
		} else {
			r.What, r.Todo = "the site answered "+resp.Status, "look at its log in "+c.Folder
		}
		return r
	}
	if out == nil {
		_, err = io.Copy(io.Discard, resp.Body)
		return err
	}
	return json.NewDecoder(resp.Body).Decode(out)
}

// gone says whether an error in reaching the site means that its process does
// not run. A connection that broke off says so only together with the process.
func (c *Client) gone(err error) bool {
	if errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, os.ErrNotExist) {
		return true
	}
	if !errors.Is(err, syscall.ECONNRESET) && !errors.Is(err, syscall.EPIPE) && !errors.Is(err, io.EOF) {
		return false
	}
	b, rerr := os.ReadFile(filepath.Join(c.Folder, protocol.ProcessFile))
	if errors.Is(rerr, os.ErrNotExist) {
		return true // it takes the file away when it ends
	}
	pid, perr := strconv.Atoi(strings.TrimSpace(string(b)))
	return perr == nil && errors.Is(syscall.Kill(pid, 0), syscall.ESRCH)
}

// plainly is an error of a request without the made-up address that it went to.
func plainly(err error) error {
	var ue *url.Error
	if errors.As(err, &ue) {
		return ue.Err
	}
	return err
}

// Secrets are the credential, if there is one.
func (c *Client) Secrets() [][]byte {
	cred, err := os.ReadFile(filepath.Join(c.Folder, credentialFile))
	if err != nil {
		return nil
	}
	return [][]byte{bytes.TrimSpace(cred)}
}

// Here says whether the site's inventory is in its folder: whether machines were
// ever ordered from it here.
func (c *Client) Here() bool {
	_, err := os.Stat(filepath.Join(c.Folder, protocol.InventoryFile))
	return err == nil
}

// Inventory lists what the site has. When the site's process does not run the
// error is site.ErrNotRunning.
func (c *Client) Inventory(ctx context.Context) (*site.Inventory, error) {
	actx, cancel := context.WithTimeout(ctx, answerTimeout)
	defer cancel()
	var inv site.Inventory
	err := c.call(actx, http.MethodGet, "/inventory", nil, &inv)
	if err != nil && ctx.Err() == nil && actx.Err() != nil {
		err = fmt.Errorf("the site did not answer within %s", answerTimeout)
	}
	return &inv, err
}

// Order gets a machine, or the one that was ordered before under this name.
func (c *Client) Order(ctx context.Context, name string, o site.Order) (*site.Machine, error) {
	var m site.Machine
	return &m, c.call(ctx, http.MethodPut, "/machines/"+name, o, &m)
}

// Release gives a machine back, with its disk and address. One that is not
// there is given back already.
func (c *Client) Release(ctx context.Context, name string) error {
	err := c.call(ctx, http.MethodDelete, "/machines/"+name, nil, nil)
	var r *site.Refused
	if errors.As(err, &r) && r.Status == http.StatusNotFound {
		return nil
	}
	return err
}

// Power switches a machine: on, off, cut or restart.
func (c *Client) Power(ctx context.Context, name, do string) error {
	return c.call(ctx, http.MethodPost, "/machines/"+name+"/power", protocol.Power{Do: do}, nil)
}

// Console reads what a machine wrote to its console.
func (c *Client) Console(ctx context.Context, name string) (string, error) {
	var s string
	err := c.call(ctx, http.MethodGet, "/machines/"+name+"/console", nil, &s)
	return s, err
}

// Faults lists what can be made to go wrong: of machines, of artefacts and of zones.
func Faults() (machines, artefacts, zones []string) {
	return protocol.MachineFaults, protocol.ArtefactFaults, protocol.ZoneFaults
}

// Possible are the faults that this site can make happen.
func (c *Client) Possible(ctx context.Context) (faults []string, err error) {
	return faults, c.call(ctx, http.MethodGet, "/faults", nil, &faults)
}

// Fault makes something of that kind go wrong with a machine, an artefact as
// NAME:VERSION, or a zone.
func (c *Client) Fault(ctx context.Context, kind, name string) error {
	f := protocol.Fault{Kind: kind}
	switch {
	case slices.Contains(protocol.ArtefactFaults, kind):
		f.Artefact = name
	case slices.Contains(protocol.ZoneFaults, kind):
		f.Zone = name
	default:
		f.Machine = name
	}
	return c.call(ctx, http.MethodPost, "/faults", f, nil)
}

// Stop ends the site's process and waits until it has.
func (c *Client) Stop(ctx context.Context) error { return c.end(ctx, "/stop") }

// Leave takes a site down, with its folder, if nobody has a machine there: the site itself
// says so, and gives nobody one from then on. gone says whether it did; one whose process
// does not run is left alone, for nothing is known of it.
func (c *Client) Leave(ctx context.Context) (gone bool, err error) {
	if _, err := os.Stat(c.Folder); errors.Is(err, os.ErrNotExist) {
		return false, nil
	}
	// Whoever starts it meanwhile waits, and finds no folder any more.
	lock, err := starting(c.Folder)
	if err != nil {
		return false, err
	}
	defer lock.Close()
	if _, err := c.Inventory(ctx); errors.Is(err, site.ErrNotRunning) {
		return false, nil
	}
	err = c.end(ctx, "/leave")
	var r *site.Refused
	switch {
	case !errors.As(err, &r):
	case r.Code == site.InUse:
		return false, nil
	case r.Status == http.StatusNotFound:
		return false, site.ErrOlder
	}
	if err != nil {
		return false, err
	}
	return true, os.RemoveAll(c.Folder)
}

// starting is held by whoever starts a site or takes it down; the kernel frees it.
func starting(folder string) (*os.File, error) {
	for {
		if err := prepare(folder); err != nil {
			return nil, fmt.Errorf("folder of the site: %w", err)
		}
		lock, err := os.OpenFile(filepath.Join(folder, "starting"), os.O_CREATE|os.O_RDWR, 0o600)
		if errors.Is(err, os.ErrNotExist) {
			continue // somebody has just taken it away
		}
		if err != nil {
			return nil, err
		}
		if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
			return nil, errors.Join(err, lock.Close())
		}
		// Who held it before may have taken the folder away, and this file with it.
		held, err := lock.Stat()
		if err != nil {
			return nil, errors.Join(err, lock.Close())
		}
		if now, err := os.Stat(lock.Name()); err == nil && os.SameFile(held, now) {
			return lock, nil
		}
		lock.Close()
	}
}

// end has the site's process end, and waits until it has.
func (c *Client) end(ctx context.Context, how string) error {
	inv, err := c.Inventory(ctx)
	if errors.Is(err, site.ErrNotRunning) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := c.call(ctx, http.MethodPost, how, nil, nil); err != nil && !errors.Is(err, site.ErrNotRunning) {
		return err
	}
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	for syscall.Kill(inv.Process, 0) == nil {
		select {
		case <-ctx.Done():
			return fmt.Errorf("the site's process %d has not ended: %w", inv.Process, ctx.Err())
		case <-tick.C:
		}
	}
	return nil
}

// Start makes sure that the site runs; started says whether it had to be
// started, and said what it told of how it came up. command begins the site's command line; the folder and the site
// file are added.
func Start(ctx context.Context, folder, file string, command []string) (c *Client, started bool, said string, err error) {
	c = NewClient(folder)
	if _, err := c.Inventory(ctx); err == nil {
		return c, false, "", nil
	} else if !errors.Is(err, site.ErrNotRunning) {
		return nil, false, "", err
	}
	lock, err := starting(folder)
	if err != nil {
		return nil, false, "", err
	}
	defer lock.Close()
	if _, err := c.Inventory(ctx); err == nil {
		return c, false, "", nil
	} else if !errors.Is(err, site.ErrNotRunning) {
		return nil, false, "", err
	}
	log, err := whole.Log(filepath.Join(folder, "site.log"))
	if err != nil {
		return nil, false, "", err
	}
	defer log.Close()
	cmd := exec.Command(command[0], append(append([]string{}, command[1:]...), folder, file)...)
	cmd.Stderr = log
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, false, "", err
	}
	if err := cmd.Start(); err != nil {
		return nil, false, "", fmt.Errorf("starting the site: %w", err)
	}
	line, _ := bufio.NewReader(out).ReadString('\n')
	said, ready := strings.CutPrefix(strings.TrimSpace(line), "ready")
	if !ready {
		cmd.Wait()
		if line == "" {
			line = "it ended without a word; its log is " + filepath.Join(folder, "site.log")
		}
		return nil, false, "", fmt.Errorf("starting the site: %s", strings.TrimSpace(line))
	}
	go cmd.Wait()
	return c, true, strings.TrimPrefix(said, ": "), nil
}

// prepare makes the site's folder with a credential.
func prepare(folder string) error {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	f := filepath.Join(folder, "credential")
	if _, err := os.Stat(f); err == nil {
		return nil
	}
	b := make([]byte, 24)
	rand.Read(b)
	return whole.Write(f, []byte(hex.EncodeToString(b)+"\n"), 0o600)
}
