// Package keeper takes backups on the control-plane machines when nobody runs the tool: a small
// unit of ours, of which one takes each that is due, by turns. What a backup holds beside the
// snapshot, every key of the cluster among it, the tool has left sealed: no machine can open
// what it has taken, nor what others took. It thins out what it took itself.
//
// When the last one was taken stands in the datastore, where all of them see it; how it went
// stands in a file of the machine, where the tool looks for it.
package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/spf13/pflag"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.etcd.io/etcd/client/v3/concurrency"

	"verbund/internal/backup"
	"verbund/internal/core/nodeconf"
	"verbund/internal/datastore"
	"verbund/internal/unit"
	"verbund/internal/whole"
)

// last is what stands in the datastore of the backup that was taken last.
type last struct {
	Taken   time.Time `json:"taken"`
	Machine string    `json:"machine"`
	Name    string    `json:"name"` // of its file there
}

// leaseSeconds is how long a keeper that is gone may count as the one that takes a backup.
const leaseSeconds = 15

// Often enough for whoever waits, and not so often that anybody notices.
const (
	soonest = 200 * time.Millisecond
	latest  = 30 * time.Second
)

// longest is how long taking one may take.
const longest = 10 * time.Minute

type keeper struct {
	m     unit.Machine
	cfg   nodeconf.KeeperConfig
	every time.Duration
	store *datastore.Client
	said  string // what was said last of what goes wrong
}

// Run is the unit's program.
func Run(ctx context.Context, m unit.Machine, args []string) error {
	fs := pflag.NewFlagSet("backup-keeper", pflag.ContinueOnError)
	fs.SetOutput(io.Discard)
	file := fs.String("config", "", "")
	if err := fs.Parse(args); err != nil {
		return unit.Usage(err)
	}
	k := &keeper{m: m}
	if err := k.read(*file); err != nil {
		return err
	}
	m.Ready()
	k.said = k.report().Trouble
	t := time.NewTicker(min(max(k.every/20, soonest), latest))
	defer t.Stop()
	for {
		if err := errors.Join(k.turn(ctx), k.send(ctx)); ctx.Err() == nil {
			k.tell(err)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-t.C:
		}
	}
}

func (k *keeper) read(file string) error {
	b, err := k.m.ReadFile(file)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(b, &k.cfg); err != nil {
		return unit.Usage(fmt.Errorf("%s: %w", file, err))
	}
	if k.every, err = time.ParseDuration(k.cfg.Every); err != nil || k.every <= 0 {
		return unit.Usage(fmt.Errorf("%s: every is %q, which is no time span", file, k.cfg.Every))
	}
	t, err := unit.Datastore(k.m, k.cfg.DatastoreAuthority, k.cfg.Certificate, k.cfg.Key)
	if err != nil {
		return err
	}
	k.store = datastore.Through(k.cfg.Datastore, t, k.m.Dial)
	return nil
}

// tell says what went wrong, once for each reason, and writes it down for the tool, also that
// nothing does any more.
func (k *keeper) tell(err error) {
	why := ""
	if err != nil {
		why = err.Error()
	}
	if k.said == why {
		return
	}
	k.said = why
	if why != "" {
		k.m.Logf("%s", why)
	}
	r := k.report()
	r.At, r.Trouble = time.Now().UTC(), why
	if err := k.write(r); err != nil {
		k.m.Logf("writing that down: %v", err)
	}
}

// report is what the keeper has last written down.
func (k *keeper) report() (r nodeconf.Kept) {
	if b, err := k.m.ReadFile(nodeconf.KeeperReport); err == nil {
		if json.Unmarshal(b, &r) != nil {
			return nodeconf.Kept{}
		}
	}
	return r
}

func (k *keeper) write(r nodeconf.Kept) error {
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return k.m.Write(nodeconf.KeeperReport, strings.NewReader(string(b)), int64(len(b)))
}

// turn takes a backup if one is due, and it is this machine's turn.
func (k *keeper) turn(ctx context.Context) error {
	label, err := k.label()
	if label == nil || err != nil {
		return err // nothing was left here yet: the tool is not done with this machine
	}
	taken, err := k.takeOne(ctx, label)
	if err != nil && !taken {
		return fmt.Errorf("no backup was taken: %w", err)
	}
	return err
}

// takeOne takes one if it is due, and says whether it has.
func (k *keeper) takeOne(ctx context.Context, label *nodeconf.Label) (taken bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	cl, err := k.store.Open(ctx)
	if err != nil {
		return false, err
	}
	defer cl.Close()
	if due, err := k.due(ctx, cl, k.patience()); err != nil || !due {
		return false, err
	}
	s, err := concurrency.NewSession(cl, concurrency.WithTTL(leaseSeconds), concurrency.WithContext(ctx))
	if err != nil {
		return false, fmt.Errorf("lease in the datastore: %w", err)
	}
	defer s.Close()
	el := concurrency.NewElection(s, k.cfg.Last)
	if err := el.Campaign(ctx, k.cfg.Holder); err != nil {
		return false, fmt.Errorf("standing for taking it: %w", err)
	}
	defer el.Resign(context.WithoutCancel(ctx))
	// Another one may have taken it meanwhile.
	if due, err := k.due(ctx, cl, 0); err != nil || !due {
		return false, err
	}
	// Whoever has lost the lease takes none beside the next one.
	go func() {
		select {
		case <-s.Done():
			cancel()
		case <-ctx.Done():
		}
	}()
	kept, err := k.take(ctx, label)
	if err != nil {
		return false, err
	}
	// There is a newer one now, whatever becomes of telling so.
	if err := k.thin(); err != nil {
		return true, err
	}
	b, err := json.Marshal(last{kept.Taken, k.cfg.Holder, kept.Name})
	if err != nil {
		return true, err
	}
	r, err := cl.Txn(ctx).If(clientv3.Compare(clientv3.CreateRevision(el.Key()), "=", el.Rev())).Then(clientv3.OpPut(k.cfg.Last, string(b))).Commit()
	if err == nil && !r.Succeeded {
		err = errors.New("the lease in the datastore ended meanwhile")
	}
	if err != nil {
		return true, fmt.Errorf("backup %s was taken, and that could not be written down in the datastore: %w", kept.Name, err)
	}
	k.m.Logf("took backup %s: %d objects at revision %d", kept.Name, kept.Objects, kept.Revision)
	k.said = "" // what stands there now says nothing of what went wrong before
	return true, k.write(*kept)
}

// send sends what was taken last to where it is not yet.
func (k *keeper) send(ctx context.Context) error {
	r := k.report()
	if r.Name == "" {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	var errs []error
	for _, to := range k.cfg.To {
		if r.Sent[to] != "" {
			continue
		}
		web := &http.Transport{DialContext: k.m.Dial, Proxy: http.ProxyFromEnvironment}
		d, err := backup.Push(k.m.Path(path.Join(nodeconf.KeeperFolder, r.Name)), to, remote.WithContext(ctx), remote.WithTransport(web))
		web.CloseIdleConnections()
		if err != nil {
			errs = append(errs, fmt.Errorf("backup %s lies here, and could not be sent to %s: %w", r.Name, to, err))
			continue
		}
		if r.Sent == nil {
			r.Sent = map[string]string{}
		}
		r.Sent[to] = d
		k.m.Logf("sent backup %s to %s", r.Name, to)
		if err := k.write(r); err != nil {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// label is what the tool has left here; nil if it has left nothing yet.
func (k *keeper) label() (*nodeconf.Label, error) {
	b, err := k.m.ReadFile(nodeconf.KeeperLabel)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	l := &nodeconf.Label{}
	if err := json.Unmarshal(b, l); err != nil {
		return nil, fmt.Errorf("%s: %w", nodeconf.KeeperLabel, err)
	}
	return l, nil
}

// patience is how long after it was due a machine lets others take a backup, where it took the
// last one itself: so they lie on several.
func (k *keeper) patience() time.Duration {
	if k.cfg.Keepers < 2 {
		return 0
	}
	return max(min(k.every/10, 2*time.Minute), 2*soonest)
}

// due says whether a backup is due, for this machine.
func (k *keeper) due(ctx context.Context, cl *clientv3.Client, patience time.Duration) (bool, error) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	r, err := cl.Get(ctx, k.cfg.Last)
	if err != nil {
		return false, fmt.Errorf("asking the datastore when the last one was taken: %w", err)
	}
	if len(r.Kvs) == 0 {
		return true, nil
	}
	var l last
	if err := json.Unmarshal(r.Kvs[0].Value, &l); err != nil {
		return false, fmt.Errorf("%s in the datastore: %w", k.cfg.Last, err)
	}
	from := l.Taken.Add(k.every)
	if l.Machine == k.cfg.Holder {
		from = from.Add(patience)
	}
	now := time.Now()
	// A clock that was ahead when the last one was taken would keep all others from being due.
	return !now.Before(from) || l.Taken.After(now.Add(k.every)), nil
}

// take takes a backup. Whoever can open it reads it back: this machine cannot.
func (k *keeper) take(ctx context.Context, label *nodeconf.Label) (*nodeconf.Kept, error) {
	to, err := backup.Recipients(label.Opens)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", nodeconf.KeeperLabel, err)
	}
	if len(label.Opener) > 0 {
		to = append(to, backup.Opener(label.Opener))
	}
	secrets, err := k.m.ReadFile(k.cfg.Secrets)
	if err != nil {
		return nil, err
	}
	rest, err := k.m.ReadFile(nodeconf.KeeperRest)
	if err != nil {
		return nil, err
	}
	folder := k.m.Path(nodeconf.KeeperFolder)
	plain, err := whole.Unnamed(folder)
	if err != nil {
		return nil, err
	}
	defer plain.Close()
	m := backup.Manifest{Cluster: k.cfg.Cluster, Kubernetes: k.cfg.Kubernetes, Members: k.cfg.Members, Why: backup.AsDeclared, Machine: k.cfg.Holder, Sealed: label.Sealed, Taken: time.Now().UTC()}
	if err := k.store.Snapshot(ctx, func(size int64, from io.Reader) error {
		n, err := io.Copy(plain, from)
		if m.Bytes = size; err == nil && n != size {
			err = fmt.Errorf("the snapshot ended after %d of %d bytes", n, size)
		}
		return err
	}); err != nil {
		return nil, err
	}
	c, err := datastore.Read(plain)
	if err != nil {
		return nil, err
	}
	m.Revision, m.Objects = c.Revision, c.ByKind()
	if _, err := plain.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	closed, err := whole.Unnamed(folder)
	if err != nil {
		return nil, err
	}
	defer closed.Close()
	if err := backup.Write(closed, to, m, secrets, map[string][]byte{backup.SealedFile: rest}, plain); err != nil {
		return nil, err
	}
	size, err := closed.Seek(0, io.SeekEnd)
	if err == nil {
		_, err = closed.Seek(0, io.SeekStart)
	}
	if err != nil {
		return nil, err
	}
	name := backup.FileName(m, strings.TrimPrefix(k.cfg.Holder, k.cfg.Cluster+"-"))
	if err := k.m.Write(path.Join(nodeconf.KeeperFolder, name), closed, size); err != nil {
		return nil, err
	}
	return &nodeconf.Kept{At: m.Taken, Taken: m.Taken, Name: name, Revision: m.Revision, Objects: m.Number(), Bytes: size}, nil
}

// thin takes away what this machine has taken and need not keep. What is called otherwise is
// nothing of its own.
func (k *keeper) thin() error {
	es, err := os.ReadDir(k.m.Path(nodeconf.KeeperFolder))
	if err != nil {
		return err
	}
	var names []string
	var taken []time.Time
	for _, e := range es {
		if t, ok := backup.TakenAt(e.Name()); ok {
			names, taken = append(names, e.Name()), append(taken, t)
		}
	}
	stay := k.cfg.Keep.Stay(taken)
	var errs []error
	for i, n := range names {
		if !stay[i] {
			errs = append(errs, k.m.Remove(path.Join(nodeconf.KeeperFolder, n)))
		}
	}
	return errors.Join(slices.DeleteFunc(errs, func(err error) bool { return errors.Is(err, fs.ErrNotExist) })...)
}
