// Package site is where machines come from: the client of a site, and the
// start of the simulated one.
package site

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
	"strconv"
	"strings"
	"syscall"
	"time"

	"verbund/internal/site/protocol"
	"verbund/internal/whole"
)

// Client talks to one site.
type Client struct {
	Folder string // the site's own folder
	http   *http.Client
}

// ErrNotRunning says that the site's process does not run: nothing listens for
// it. That it did not answer in time, or broke off, is another error, which says
// nothing about whether it runs.
var ErrNotRunning = errors.New("the site's process is not running")

// answerTimeout is how long the site may take to say what it has.
const answerTimeout = 10 * time.Second

// Refused is what a site will not do.
type Refused struct {
	protocol.Refusal
	Status int
}

func (r *Refused) Error() string { return r.What + "; " + r.Todo }

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
	cred, err := os.ReadFile(filepath.Join(c.Folder, "credential"))
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("%w: it was never started here", ErrNotRunning)
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
			return ErrNotRunning
		}
		return fmt.Errorf("asking the site: %w", plainly(err))
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		r := &Refused{Status: resp.StatusCode}
		if json.NewDecoder(resp.Body).Decode(&r.Refusal) != nil {
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

// Here says whether the site's inventory is in its folder: whether machines were
// ever ordered from it here.
func (c *Client) Here() bool {
	_, err := os.Stat(filepath.Join(c.Folder, protocol.InventoryFile))
	return err == nil
}

// Inventory lists what the site has. When the site's process does not run the
// error is ErrNotRunning.
func (c *Client) Inventory(ctx context.Context) (*protocol.Inventory, error) {
	actx, cancel := context.WithTimeout(ctx, answerTimeout)
	defer cancel()
	var inv protocol.Inventory
	err := c.call(actx, http.MethodGet, "/inventory", nil, &inv)
	if err != nil && ctx.Err() == nil && actx.Err() != nil {
		err = fmt.Errorf("the site did not answer within %s", answerTimeout)
	}
	return &inv, err
}

// Order gets a machine, or the one that was ordered before under this name.
func (c *Client) Order(ctx context.Context, name string, o protocol.Order) (*protocol.Machine, error) {
	var m protocol.Machine
	return &m, c.call(ctx, http.MethodPut, "/machines/"+name, o, &m)
}

// Release gives a machine back, with its disk and address. One that is not
// there is given back already.
func (c *Client) Release(ctx context.Context, name string) error {
	err := c.call(ctx, http.MethodDelete, "/machines/"+name, nil, nil)
	var r *Refused
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

// Fault makes something go wrong.
func (c *Client) Fault(ctx context.Context, f protocol.Fault) error {
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
	if _, err := c.Inventory(ctx); errors.Is(err, ErrNotRunning) {
		return false, nil
	}
	err = c.end(ctx, "/leave")
	var r *Refused
	switch {
	case !errors.As(err, &r):
	case r.Code == protocol.InUse:
		return false, nil
	case r.Status == http.StatusNotFound:
		return false, ErrOlder
	}
	if err != nil {
		return false, err
	}
	return true, os.RemoveAll(c.Folder)
}

// ErrOlder is a site whose process is of a version that does not know what it is asked.
var ErrOlder = errors.New("its process is of an older version, which cannot say whether somebody uses it")

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
	if errors.Is(err, ErrNotRunning) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := c.call(ctx, http.MethodPost, how, nil, nil); err != nil && !errors.Is(err, ErrNotRunning) {
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
	} else if !errors.Is(err, ErrNotRunning) {
		return nil, false, "", err
	}
	lock, err := starting(folder)
	if err != nil {
		return nil, false, "", err
	}
	defer lock.Close()
	if _, err := c.Inventory(ctx); err == nil {
		return c, false, "", nil
	} else if !errors.Is(err, ErrNotRunning) {
		return nil, false, "", err
	}
	log, err := os.OpenFile(filepath.Join(folder, "site.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
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
