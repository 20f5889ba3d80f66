package daemon

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/declare"
	"verbund/internal/core/topology"
	"verbund/internal/sim/host"
	"verbund/internal/sim/linux"
	"verbund/internal/site/protocol"
)

// kind is what differs between sites by what their machines are.
type kind interface {
	// open claims the block of addresses, and makes what machines are wired to; said is what
	// there is to say of what was found there.
	open() (close func() error, said string, err error)
	// digest tells an image by what it is composed of, compose puts it together.
	digest(protocol.Image) (string, error)
	compose(context.Context, protocol.Image) error
	// fill completes what the site knows of a machine.
	fill(*host.Spec, string)
	// cannot says why a fault is none of this kind; empty when it is.
	cannot(fault string) string
	// sever makes the network as the cuts have it; at says which machines are in a zone.
	sever(cuts []protocol.Cut, at func(zone string) []netip.Addr) error
	// holdsBack says whether machines hold back themselves what the network would not carry.
	holdsBack() bool
	// switches says whether the site has its machines' power.
	switches() bool
	// take chooses the machine that is there already; of others it says nothing.
	take(*protocol.Machine, protocol.Order) error
	// ask completes what is known of machines that are there already.
	ask([]protocol.Machine)
}

// kindOf is the kind of a site as its file has it.
func kindOf(folder string, file *declare.Site, images string) (kind, error) {
	switch file.Kind {
	case declare.ListedSite:
		return listed{played{file}}, nil
	case declare.LinuxSite:
	default:
		return played{file}, nil
	}
	if os.Geteuid() != 0 {
		return nil, errors.New("a site of kind linux makes namespaces, disks and a network, which only root may; run the command as root, or use a site of kind simulated")
	}
	return real{folder, file, linux.Images{Folder: images}}, nil
}

// played are machines that this program plays.
type played struct{ file *declare.Site }

func (k played) open() (func() error, string, error) {
	claim, err := net.Listen("tcp", fmt.Sprintf("%s:%d", topology.SiteAddress(k.file.Addresses, 1), claimPort))
	if err != nil {
		return nil, "", taken(k.file, err)
	}
	return claim.Close, "", nil
}

func taken(file *declare.Site, err error) error {
	return fmt.Errorf("%w: %s is used by another site on this computer; choose another block for addresses in %s.site.yaml (%w)", ErrBlockTaken, file.Addresses, file.Name, err)
}

func (k played) digest(spec protocol.Image) (string, error) {
	b, err := json.Marshal(spec)
	return fmt.Sprintf("sha256:%x", sha256.Sum256(b)), err
}

// composing is how long composing an image takes in life.
const composing = 30 * time.Second

func (k played) compose(ctx context.Context, _ protocol.Image) error {
	t := time.NewTimer(composing / time.Duration(max(k.file.Pace, 1)))
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (k played) fill(*host.Spec, string) {}

func (k played) cannot(string) string { return "" }

// The connections of stand-ins and of the datastore go through what a machine of this kind has
// for a network; those that a real control plane makes on it do not.
func (k played) holdsBack() bool { return true }

func (k real) holdsBack() bool { return false }

func (k played) sever([]protocol.Cut, func(string) []netip.Addr) error { return nil }

func (k played) switches() bool { return true }

func (k played) take(*protocol.Machine, protocol.Order) error { return nil }

func (k played) ask([]protocol.Machine) {}

// real are machines that are Linux systems.
type real struct {
	folder string
	file   *declare.Site
	images linux.Images
}

func (k real) open() (func() error, string, error) {
	n := linux.NetworkOf(k.folder, k.file.Addresses)
	left, err := linux.Clear(k.folder)
	if err != nil {
		return nil, "", fmt.Errorf("clearing up what machines have left: %w", err)
	}
	back, said, err := n.Raise()
	if err != nil {
		return nil, "", err
	}
	if len(left) > 0 {
		said = append(said, "what "+strings.Join(left, ", ")+" had left on this computer was cleared up")
	}
	if err := n.Open(); err != nil {
		err = errors.Join(err, back())
		if errors.Is(err, linux.ErrBlockInUse) {
			err = taken(k.file, err)
		}
		return nil, "", err
	}
	return func() error {
		_, err := linux.Clear(k.folder)
		return errors.Join(err, back(), n.Close())
	}, strings.Join(said, "; "), nil
}

func (k real) digest(spec protocol.Image) (string, error) {
	d, err := k.images.Digest(spec)
	if err != nil {
		return "", refuse(http.StatusBadRequest, "declare an image that can be composed, or take it out of the declaration", "%v", err)
	}
	return d, nil
}

func (k real) compose(ctx context.Context, spec protocol.Image) error {
	_, err := k.images.Compose(ctx, spec)
	return err
}

func (k real) fill(s *host.Spec, digest string) {
	s.Block, s.Base, s.RegistryName = k.file.Addresses, k.images.Root(digest), "registry."+k.file.Name+".test"
}

// inflicted are the faults that can happen to machines that are real systems.
var inflicted = []string{protocol.NewHostKey, protocol.NewLease, protocol.LostMachine, protocol.LostZone, protocol.DamagedBlob, protocol.MendedBlob,
	protocol.CutNetwork, protocol.OneWayNetwork, protocol.LossyNetwork, protocol.MendedNetwork}

func (k real) cannot(fault string) string {
	if slices.Contains(inflicted, fault) {
		return ""
	}
	return "a site of kind linux cannot make " + fault + " happen; it can " + strings.Join(inflicted, ", ")
}

func (k real) sever(cuts []protocol.Cut, at func(string) []netip.Addr) error {
	var all []linux.Cut
	for _, c := range cuts {
		all = append(all, linux.Cut{From: at(c.From), To: at(c.To), Percent: c.Percent})
	}
	return linux.NetworkOf(k.folder, k.file.Addresses).Sever(all)
}

func (k real) switches() bool { return true }

func (k real) take(*protocol.Machine, protocol.Order) error { return nil }

func (k real) ask([]protocol.Machine) {}
