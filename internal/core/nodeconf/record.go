package nodeconf

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"sync/atomic"

	"go.yaml.in/yaml/v3"
)

// Record is the file that says whose a machine is, and which files Verbund put
// there: what is listed and not rendered any more is taken away.
const Record = "/etc/verbund/machine.yaml"

// Owner is what a machine's record says.
type Owner struct {
	Cluster string   `yaml:"cluster"`
	Machine string   `yaml:"machine"`
	Files   []string `yaml:"files"`
	// Digests are of the text files that everybody may read, as they were written: a
	// file that has another one by now was changed by something else.
	Digests map[string]string `yaml:"digests,omitempty"`
}

// Wrote says whether a file's content, told by its SHA-256 in hexadecimal, is
// what Verbund wrote under that path.
func (o *Owner) Wrote(path, sum string) bool {
	return o != nil && len(sum) >= 16 && o.Digests[path] == sum[:16]
}

// digestOf is how a record tells a content: the first 16 hexadecimal digits of
// its SHA-256.
func digestOf(content string) string {
	if last := longest.Load(); last != nil && last.content == content {
		return last.digest
	}
	sum := sha256.Sum256([]byte(content))
	d := hex.EncodeToString(sum[:8])
	if len(content) > long {
		longest.Store(&digested{content, d})
	}
	return d
}

// A cluster's list of names is long, and the same string on every machine: it is
// digested once.
const long = 4 << 10

type digested struct{ content, digest string }

var longest atomic.Pointer[digested]

// ReadRecord reads a machine's record; nothing when it cannot be read.
func ReadRecord(b []byte) *Owner {
	var o Owner
	if yaml.Unmarshal(b, &o) != nil || o.Cluster == "" {
		return nil
	}
	return &o
}

// StillThere is a record that also has files which are not rendered any more, and lie there
// still: should what takes them away not come to that, they are not forgotten.
func StillThere(record []byte, files []string) []byte {
	o := ReadRecord(record)
	if o == nil || len(files) == 0 {
		return record
	}
	o.Files = append(o.Files, files...)
	return []byte(o.text())
}

// text is the record as YAML. Every string in it is a name or a path of ours and
// needs no escaping; a general encoder would take longer over this one file than
// all others take together.
func (o Owner) text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "# whose this machine is; written by verbund\ncluster: %q\nmachine: %q\nfiles:\n", o.Cluster, o.Machine)
	for _, f := range o.Files {
		b.WriteString("    - " + f + "\n")
	}
	b.WriteString("digests:\n")
	for _, f := range o.Files {
		if d := o.Digests[f]; d != "" {
			b.WriteString("    " + f + ": \"" + d + "\"\n")
		}
	}
	return b.String()
}
