package agent

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"

	clientv3 "go.etcd.io/etcd/client/v3"
	"go.etcd.io/etcd/server/v3/embed"
	"go.uber.org/zap"

	"verbund/internal/machine/protocol"
)

// rescuing is the folder, in that of the datastore, in which a member is brought up alone.
const rescuing = ".rescue"

// rescuePart is how much of a snapshot one file holds: what is read of one at a time.
const rescuePart = protocol.MaxRead

// rescue takes a snapshot of a member that has lost the others: its data is copied, and a
// member of one is made of the copy, which takes for decided what it was told and had written
// down. The data itself stays as it is.
func (a *agent) rescue(ctx context.Context, q *protocol.RescueRequest) (*protocol.RescueReply, error) {
	if err := a.stopped(ctx, q.Unit); err != nil {
		return nil, err
	}
	dir := a.sys.Path(q.Folder)
	tmp := filepath.Join(dir, rescuing)
	if err := errors.Join(os.RemoveAll(tmp), os.MkdirAll(tmp, 0o700)); err != nil {
		return nil, code(err)
	}
	defer os.RemoveAll(tmp)
	if err := copied(filepath.Join(dir, "member"), filepath.Join(tmp, "data", "member")); err != nil {
		return nil, code(fmt.Errorf("copying the member's data: %w", err))
	}
	// A socket's path must not be long, and that of a simulated machine is.
	sockets, err := os.MkdirTemp("", "verbund-rescue-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(sockets)
	client, peer := url.URL{Scheme: "unix", Path: filepath.Join(sockets, "c")}, url.URL{Scheme: "unix", Path: filepath.Join(sockets, "p")}
	cfg := embed.NewConfig()
	cfg.Name, cfg.Dir, cfg.LogLevel, cfg.ForceNewCluster = q.Name, filepath.Join(tmp, "data"), "panic", true
	cfg.ListenClientUrls, cfg.AdvertiseClientUrls = []url.URL{client}, []url.URL{client}
	cfg.ListenPeerUrls, cfg.AdvertisePeerUrls = []url.URL{peer}, []url.URL{peer}
	cfg.InitialCluster = q.Name + "=" + peer.String()
	e, err := embed.StartEtcd(cfg)
	if err != nil {
		return nil, code(fmt.Errorf("bringing the member up alone: %w", err))
	}
	defer e.Close()
	select {
	case <-e.Server.ReadyNotify():
	case err := <-e.Err():
		return nil, fmt.Errorf("bringing the member up alone: %w", err)
	case <-ctx.Done():
		return nil, fmt.Errorf("the member did not come up alone: %w", ctx.Err())
	}
	cl, err := clientv3.New(clientv3.Config{Context: ctx, Endpoints: []string{client.String()}, Logger: zap.NewNop()})
	if err != nil {
		return nil, err
	}
	defer cl.Close()
	from, err := cl.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	defer from.Close()
	out := &protocol.RescueReply{}
	buf := make([]byte, rescuePart)
	for i := 0; ; i++ {
		n, err := io.ReadFull(from, buf)
		if n > 0 {
			p := fmt.Sprintf("%srescued-%04d", q.To, i)
			if err := a.write(p, buf[:n], 0o600); err != nil {
				return nil, code(err)
			}
			out.Parts = append(out.Parts, p)
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
	}
}

// copied copies a folder without what is nothing but zeros, of which etcd keeps much ready: that
// stays a hole, and costs neither room nor time.
func copied(from, to string) error {
	return filepath.WalkDir(from, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, p)
		if err != nil {
			return err
		}
		at := filepath.Join(to, rel)
		if d.IsDir() {
			return os.MkdirAll(at, 0o700)
		}
		return copyFile(p, at)
	})
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	buf, zeros := make([]byte, 64<<10), make([]byte, 64<<10)
	at := int64(0)
	for {
		n, err := io.ReadFull(in, buf)
		if n > 0 && !bytes.Equal(buf[:n], zeros[:n]) {
			if _, err := out.WriteAt(buf[:n], at); err != nil {
				return err
			}
		}
		at += int64(n)
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return errors.Join(out.Truncate(at), out.Close())
		}
		if err != nil {
			return err
		}
	}
}

// stopped refuses while a unit runs, or will by itself.
func (a *agent) stopped(ctx context.Context, unit string) error {
	us, err := a.sys.Units(ctx)
	if err != nil {
		return err
	}
	for _, u := range us {
		if u.Name == unit && u.State != "inactive" && u.State != "failed" {
			return fmt.Errorf("unit %s is %s; stop it first", unit, u.State)
		}
	}
	return nil
}
