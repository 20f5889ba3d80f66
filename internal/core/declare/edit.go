package declare

import (
	"bytes"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// ErrElsewhere says that the value does not stand in this file.
var ErrElsewhere = errors.New("it does not stand in this file")

// errByHand is an edit that cannot be made safely.
var errByHand = errors.New("the file is written in a way that cannot be edited safely; change it by hand")

// SetKubernetes changes the version in a declaration and nothing else: every
// other byte stays.
func SetKubernetes(data []byte, version string) ([]byte, error) {
	root, err := edited(data)
	if err != nil {
		return nil, err
	}
	_, v := child(root, "kubernetes")
	if v == nil {
		return nil, ErrElsewhere
	}
	out, err := replace(data, v, version)
	if err != nil {
		return nil, err
	}
	return out, confirm(data, out, func(root *yaml.Node) *yaml.Node { _, v := child(root, "kubernetes"); return v }, version)
}

// SetCount changes the count of a pool in a declaration and nothing else. A
// pool that has no count yet gets one behind its name.
func SetCount(data []byte, pool string, count int) ([]byte, error) {
	return setOfPool(data, pool, "count", strconv.Itoa(count))
}

// SetPoolKubernetes holds a pool on a version, and changes nothing else. A pool that
// has none of its own yet gets one behind its name.
func SetPoolKubernetes(data []byte, pool, version string) ([]byte, error) {
	return setOfPool(data, pool, "kubernetes", version)
}

func setOfPool(data []byte, pool, key, text string) ([]byte, error) {
	root, err := edited(data)
	if err != nil {
		return nil, err
	}
	p := poolOf(root, pool)
	if p == nil {
		return nil, ErrElsewhere
	}
	find := func(root *yaml.Node) *yaml.Node { _, v := child(poolOf(root, pool), key); return v }
	var out []byte
	if v := find(root); v != nil {
		out, err = replace(data, v, text)
	} else {
		out, err = insert(data, p, "name", key+": "+text)
	}
	if err != nil {
		return nil, err
	}
	return out, confirm(data, out, find, text)
}

// SetHostKey writes the host key of a listed machine into a site file that has none for it,
// and nothing else.
func SetHostKey(data []byte, address netip.Addr, fingerprint string) ([]byte, error) {
	root, err := edited(data)
	if err != nil {
		return nil, err
	}
	at := func(root *yaml.Node) *yaml.Node {
		_, ms := child(root, "machines")
		if ms == nil || ms.Kind != yaml.SequenceNode {
			return nil
		}
		for _, m := range ms.Content {
			if _, a := child(m, "address"); a != nil && a.Value == address.String() {
				return m
			}
		}
		return nil
	}
	m := at(root)
	if m == nil {
		return nil, ErrElsewhere
	}
	if _, has := child(m, "hostKey"); has != nil {
		return nil, errByHand
	}
	out, err := insert(data, m, "address", "hostKey: "+strconv.Quote(fingerprint))
	if err != nil {
		return nil, err
	}
	return out, confirm(data, out, func(root *yaml.Node) *yaml.Node { _, v := child(at(root), "hostKey"); return v }, fingerprint)
}

func edited(data []byte) (*yaml.Node, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(data, &doc); err != nil || len(doc.Content) == 0 {
		return nil, errByHand
	}
	return doc.Content[0], nil
}

func poolOf(root *yaml.Node, name string) *yaml.Node {
	_, pools := child(root, "pools")
	if pools == nil || pools.Kind != yaml.SequenceNode {
		return nil
	}
	for _, p := range pools.Content {
		if _, n := child(p, "name"); n != nil && n.Value == name {
			return p
		}
	}
	return nil
}

// token finds the bytes of a scalar, its quotes included.
func token(data []byte, n *yaml.Node) (from, to int, err error) {
	if n.Kind != yaml.ScalarNode || n.Tag != n.ShortTag() || n.Anchor != "" {
		return 0, 0, errByHand
	}
	for range n.Line - 1 {
		i := bytes.IndexByte(data[from:], '\n')
		if i < 0 {
			return 0, 0, errByHand
		}
		from += i + 1
	}
	for range n.Column - 1 {
		_, size := utf8.DecodeRune(data[from:])
		if from += size; from >= len(data) {
			return 0, 0, errByHand
		}
	}
	rest := data[from:]
	switch n.Style {
	case yaml.DoubleQuotedStyle, yaml.SingleQuotedStyle:
		// Neither a version nor a count nor a name needs an escape.
		q := rest[0]
		i := bytes.IndexByte(rest[1:], q)
		if q != '"' && q != '\'' || i < 0 || string(rest[1:1+i]) != n.Value {
			return 0, 0, errByHand
		}
		return from, from + i + 2, nil
	case 0:
		if !bytes.HasPrefix(rest, []byte(n.Value)) || n.Value == "" {
			return 0, 0, errByHand
		}
		return from, from + len(n.Value), nil
	}
	return 0, 0, errByHand
}

// replace puts a new text in a scalar's place, in the quotes that it has.
func replace(data []byte, n *yaml.Node, text string) ([]byte, error) {
	from, to, err := token(data, n)
	if err != nil {
		return nil, err
	}
	if q := data[from]; q == '"' || q == '\'' {
		from, to = from+1, to-1
	}
	return bytes.Join([][]byte{data[:from], []byte(text), data[to:]}, nil), nil
}

// insert adds a key to an entry of a list, behind another one.
func insert(data []byte, pool *yaml.Node, behind, pair string) ([]byte, error) {
	key, name := child(pool, behind)
	_, end, err := token(data, name)
	if err != nil {
		return nil, err
	}
	if pool.Style == yaml.FlowStyle {
		return bytes.Join([][]byte{data[:end], []byte(", " + pair), data[end:]}, nil), nil
	}
	newline := "\n"
	if i := bytes.IndexByte(data[end:], '\n'); i >= 0 {
		if data[end+max(i-1, 0)] == '\r' {
			newline = "\r\n"
		}
		end += i + 1
		return bytes.Join([][]byte{data[:end], []byte(strings.Repeat(" ", key.Column-1) + pair + newline), data[end:]}, nil), nil
	}
	return bytes.Join([][]byte{data, []byte(newline + strings.Repeat(" ", key.Column-1) + pair + newline)}, nil), nil
}

// confirm reads an edited file again: the value is there, and taking it away
// on both sides leaves the same.
func confirm(before, after []byte, find func(*yaml.Node) *yaml.Node, want string) error {
	b, err1 := edited(before)
	a, err2 := edited(after)
	if err1 != nil || err2 != nil {
		return errByHand
	}
	v := find(a)
	if v == nil || v.Value != want {
		return errByHand
	}
	v.Value, v.Tag = "", ""
	old := find(b)
	if old != nil {
		old.Value, old.Tag = "", ""
		x, err1 := yaml.Marshal(a)
		y, err2 := yaml.Marshal(b)
		if err1 != nil || err2 != nil || !bytes.Equal(x, y) {
			return errByHand
		}
	}
	return nil
}

// Where says in which file and line a value of the merged declaration stands;
// at is a key, such as kubernetes, or a pool's count as pools[NAME].count.
func (r *Result) Where(at string) (file string, line int, ok bool) {
	if name, rest, cut := strings.Cut(strings.TrimPrefix(at, "pools["), "]"); cut {
		for i, p := range r.Decl.Pools {
			if p.Name == name {
				at = fmt.Sprintf("pools[%d]%s", i, rest)
			}
		}
	}
	p, ok := r.doc.places[at]
	return p.file, p.line, ok
}
