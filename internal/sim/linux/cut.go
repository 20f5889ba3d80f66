package linux

import (
	"fmt"
	"net/netip"

	"github.com/google/nftables"
	"github.com/google/nftables/binaryutil"
	"github.com/google/nftables/expr"
	"github.com/vishvananda/netns"
)

// Cut is what does not come through any more from some machines to others.
type Cut struct {
	From, To []netip.Addr
	Percent  int // of their frames, by chance; 100 is all of them
}

// cutTable holds what is dropped on the bridge, in the network's namespace.
const cutTable = "cuts"

// Sever drops on the bridge what is cut, whatever it is, and lets everything else through:
// what was cut before holds no more. Machines may be switched on later.
func (n Network) Sever(cuts []Cut) error {
	ns, err := netns.GetFromName(n.Name)
	if err != nil {
		return fmt.Errorf("the network %s: %w", n.Name, err)
	}
	defer ns.Close()
	c, err := nftables.New(nftables.WithNetNSFd(int(ns)))
	if err != nil {
		return err
	}
	t := &nftables.Table{Family: nftables.TableFamilyBridge, Name: cutTable}
	c.AddTable(t) // deleting what is not there is an error
	c.DelTable(t)
	if len(cuts) > 0 {
		c.AddTable(t)
		chain := c.AddChain(&nftables.Chain{Name: "between", Table: t, Type: nftables.ChainTypeFilter, Hooknum: nftables.ChainHookForward, Priority: nftables.ChainPriorityFilter})
		for _, x := range cuts {
			for _, from := range x.From {
				for _, to := range x.To {
					c.AddRule(&nftables.Rule{Table: t, Chain: chain, Exprs: x.drops(from, to)})
				}
			}
		}
	}
	if err := c.Flush(); err != nil {
		return fmt.Errorf("cutting the network %s: %w", n.Name, err)
	}
	return nil
}

// drops is the rule for frames from one machine to another.
func (x Cut) drops(from, to netip.Addr) []expr.Any {
	card := func(key expr.MetaKey, a netip.Addr) []expr.Any {
		name := make([]byte, 16) // IFNAMSIZ
		copy(name, portOf(a))
		return []expr.Any{&expr.Meta{Key: key, Register: 1}, &expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: name}}
	}
	rule := append(card(expr.MetaKeyIIFNAME, from), card(expr.MetaKeyOIFNAME, to)...)
	if x.Percent < 100 {
		rule = append(rule,
			&expr.Numgen{Register: 1, Modulus: 100, Type: random},
			&expr.Byteorder{SourceRegister: 1, DestRegister: 1, Op: expr.ByteorderHton, Len: 4, Size: 4},
			&expr.Cmp{Op: expr.CmpOpLt, Register: 1, Data: binaryutil.BigEndian.PutUint32(uint32(x.Percent))})
	}
	return append(rule, &expr.Verdict{Kind: expr.VerdictDrop})
}

// random is NFT_NG_RANDOM of linux/netfilter/nf_tables.h.
const random = 1
