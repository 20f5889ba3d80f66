package declare

// Rule is one thing that is checked. Its identifier is stable.
type Rule struct {
	ID       string   `json:"id"`
	Severity Severity `json:"severity"`
	What     string   `json:"what"`
	// Open says that an exception with a reason may accept it.
	Open bool `json:"open"`
	// Living says that it shows on a living cluster alone, before a roll-out begins.
	Living bool `json:"living"`
}

// Rules lists everything that check looks at, by subject.
var Rules = []Rule{
	{ID: "file-too-large", Severity: Error, What: "a file is larger than what is read"},
	{ID: "file-empty", Severity: Error, What: "a file holds no document"},
	{ID: "not-yaml", Severity: Error, What: "a file is not YAML"},
	{ID: "two-documents", Severity: Error, What: "a file holds more than one document"},
	{ID: "no-anchors", Severity: Error, What: "a value is an anchor or an alias"},
	{ID: "too-deep", Severity: Error, What: "values are nested too deep"},
	{ID: "bad-key", Severity: Error, What: "a key is not plain text"},
	{ID: "key-twice", Severity: Error, What: "a key stands twice"},
	{ID: "unknown-key", Severity: Error, What: "a key is not known"},
	{ID: "no-value", Severity: Error, What: "a key has no value"},
	{ID: "wrong-type", Severity: Error, What: "a value has the wrong type"},
	{ID: "bad-value", Severity: Error, What: "a value cannot be read"},
	{ID: "extends-missing", Severity: Error, What: "a file that is extended cannot be read"},
	{ID: "extends-circle", Severity: Error, What: "files extend each other in a circle"},
	{ID: "schema", Severity: Error, What: "the format is another one"},
	{ID: "missing", Severity: Error, What: "a key without default is missing"},
	{ID: "bad-name", Severity: Error, What: "a name has a form that is not allowed"},
	{ID: "name-twice", Severity: Error, What: "a name is given twice"},
	{ID: "name-reserved", Severity: Error, What: "a name is used by Verbund itself"},

	{ID: "site-missing", Severity: Error, What: "the site's file is not there"},
	{ID: "site-name", Severity: Error, What: "the site's file says that it has another name"},
	{ID: "site-kind", Severity: Error, What: "the kind of site is not known, or has no such thing"},
	{ID: "site-addresses", Severity: Error, What: "the site's block cannot be used"},
	{ID: "site-pace", Severity: Error, What: "the site's pace is out of range"},
	{ID: "site-zones", Severity: Error, What: "the site has no zones"},
	{ID: "zone-room", Severity: Error, What: "a zone has no room"},
	{ID: "site-sizes", Severity: Error, What: "the site has no sizes"},
	{ID: "size-incomplete", Severity: Error, What: "a size lacks something"},
	{ID: "site-full", Severity: Error, What: "a zone has less room than the declared machines need"},
	{ID: "unknown-size", Severity: Error, What: "the site has no such size"},
	{ID: "unknown-zone", Severity: Error, What: "the site has no such zone"},
	{ID: "listed-twice", Severity: Error, What: "a machine is listed twice"},
	{ID: "list-short", Severity: Error, What: "the site's list has fewer machines of a size in a zone than are declared"},
	{ID: "bad-host-key", Severity: Error, What: "the fingerprint of a host key is none"},
	{ID: "host-key-unknown", Severity: Warning, What: "the host key of a listed machine is not known"},

	{ID: "unknown-version", Severity: Error, What: "the catalogue has no such version of Kubernetes"},
	{ID: "support-ends", Severity: Warning, What: "the support of a version has ended or soon ends"},
	{ID: "catalogue-missing", Severity: Error, What: "the catalogue's file cannot be read"},
	{ID: "catalogue-digest", Severity: Error, What: "the catalogue's file is not the one that is pinned"},
	{ID: "catalogue-damaged", Severity: Error, What: "the catalogue's file is no catalogue"},
	{ID: "pins-damaged", Severity: Error, What: "the pins file cannot be read"},
	{ID: "pins-edited", Severity: Error, What: "the pins file was edited"},
	{ID: "pins-other-cluster", Severity: Error, What: "the pins file belongs to another cluster"},
	{ID: "unknown-add-on", Severity: Error, What: "an add-on is not known"},
	{ID: "add-on-version", Severity: Error, What: "the catalogue has no such version of an add-on"},
	{ID: "add-on-unfit", Severity: Error, What: "an add-on does not fit the Kubernetes version", Open: true},
	{ID: "add-on-reason", Severity: Error, What: "an add-on has a version of its own and no reason"},
	{ID: "may-lose", Severity: Error, What: "pods that may be lost are not chosen by a label selector, with a reason"},
	{ID: "exception-rule", Severity: Error, What: "an exception names a rule that is not open to exceptions"},
	{ID: "exception-reason", Severity: Error, What: "an exception has no reason"},
	{ID: "exception-idle", Severity: Warning, What: "an exception is not needed"},

	{ID: "endpoint-address", Severity: Warning, What: "the endpoint is an address instead of a name"},
	{ID: "endpoint-several", Severity: Error, What: "more than one thing is to answer at the endpoint"},
	{ID: "endpoint-both", Severity: Warning, What: "the endpoint is on its way from a balancer to a virtual address"},
	{ID: "balancer-missing", Severity: Error, What: "several control-plane machines and nothing in front of them"},
	{ID: "balancer-single", Severity: Warning, What: "the balancer is a single machine"},
	{ID: "existing-address", Severity: Error, What: "the existing balancer has no usable address"},
	{ID: "virtual-address", Severity: Error, What: "the virtual address cannot be used"},
	{ID: "virtual-single", Severity: Warning, What: "a virtual address with one machine to carry it"},
	{ID: "bad-port", Severity: Error, What: "a port is out of range"},
	{ID: "port-twice", Severity: Error, What: "a port is used twice"},
	{ID: "also-unserved", Severity: Error, What: "further ports and nothing of ours that answers at them"},
	{ID: "bad-node-port", Severity: Error, What: "a port is no node port"},

	{ID: "range-family", Severity: Error, What: "a range is not an IPv4 range"},
	{ID: "range-host-bits", Severity: Error, What: "a range has bits set behind its length"},
	{ID: "range-loopback", Severity: Error, What: "a range of pods or services lies in the loopback range"},
	{ID: "range-size", Severity: Error, What: "a range is too small or too large"},
	{ID: "ranges-overlap", Severity: Error, What: "ranges overlap"},
	{ID: "range-of-machines", Severity: Error, What: "a range of pods or services overlaps the addresses of the site's machines"},
	{ID: "range-machines", Severity: Error, What: "the machines' subnet does not lie in the site's block"},
	{ID: "per-node", Severity: Error, What: "the range of each node is no power of two in bounds"},
	{ID: "per-node-pods", Severity: Warning, What: "a node has fewer addresses than the pods it may run"},
	{ID: "unknown-plugin", Severity: Error, What: "the network plugin is not known"},
	{ID: "plugin-setting", Severity: Error, What: "a setting of the network plugin is wrong"},
	{ID: "dns-forward", Severity: Error, What: "a name server that the cluster's DNS cannot pass names on to"},
	{ID: "bad-proxy", Severity: Error, What: "the outbound proxy is no URL"},
	{ID: "bad-upstream", Severity: Error, What: "an upstream registry is no host name"},

	{ID: "control-none", Severity: Error, What: "there are no control-plane machines"},
	{ID: "control-many", Severity: Error, What: "there are too many control-plane machines"},
	{ID: "control-even", Severity: Warning, What: "an even number of control-plane machines"},
	{ID: "control-one-zone", Severity: Warning, What: "all control-plane machines stand in one zone"},
	{ID: "zone-majority", Severity: Warning, What: "one of two zones holds the majority of the datastore's members, and the site has more"},
	{ID: "datastore-place", Severity: Error, What: "the datastore's place is not known"},
	{ID: "datastore-beside", Severity: Error, What: "machines are declared for a datastore that has none of its own"},
	{ID: "datastore-count", Severity: Error, What: "too few or too many machines for the datastore"},
	{ID: "datastore-even", Severity: Warning, What: "an even number of datastore machines"},
	{ID: "trust-order", Severity: Error, What: "an authority is to end before what it signs"},
	{ID: "trust-short", Severity: Warning, What: "an authority ends soon after the certificates that it signs"},
	{ID: "trust-long", Severity: Warning, What: "certificates live longer than a year and a month"},
	{ID: "trust-renew", Severity: Error, What: "certificates would be renewed before they are half used"},
	{ID: "trust-word", Severity: Error, What: "an algorithm, or who holds or renews something, is not known"},
	{ID: "trust-tokens", Severity: Error, What: "service-account tokens are to be signed with Ed25519"},
	{ID: "trust-kubelets-life", Severity: Error, What: "certificates of kubelets are to live too shortly or too long"},
	{ID: "trust-outside-renewal", Severity: Error, What: "kubelets are to renew what only somebody outside can sign"},
	{ID: "trust-outside-token", Severity: Error, What: "machines are to enrol by token, and the key that signs is outside"},
	{ID: "program-useless", Severity: Error, What: "a program's certificate is neither for a server nor for a client"},

	{ID: "unknown-component", Severity: Error, What: "a component is not known"},
	{ID: "setting-kind", Severity: Error, What: "a component is not told things this way"},
	{ID: "setting-unknown", Severity: Error, What: "a component of this version does not know a setting", Open: true},
	{ID: "setting-owned", Severity: Error, What: "a setting is derived from the declaration"},
	{ID: "setting-value", Severity: Error, What: "a setting has a value of the wrong kind"},
	{ID: "setting-leaves", Severity: Warning, What: "the next minor does not know a setting any more"},

	{ID: "bad-count", Severity: Error, What: "a pool's count is out of bounds"},
	{ID: "no-spare", Severity: Warning, What: "the pods of one lost worker have no other place"},
	{ID: "one-zone", Severity: Warning, What: "a pool of several machines stands in one zone"},
	{ID: "bad-label", Severity: Error, What: "a label has a form that is not allowed"},
	{ID: "label-reserved", Severity: Error, What: "a label belongs to Kubernetes"},
	{ID: "bad-taint", Severity: Error, What: "a taint is not one"},
	{ID: "unknown-way", Severity: Error, What: "a way of rolling out is not known"},
	{ID: "bad-batch", Severity: Error, What: "a batch has no machine"},
	{ID: "batch-whole-pool", Severity: Warning, What: "a batch is as large as the pool"},
	{ID: "unknown-hold", Severity: Error, What: "where a roll-out holds is not known"},
	{ID: "unknown-order", Severity: Error, What: "the order of a roll-out is not known"},
	{ID: "bad-trial", Severity: Error, What: "a trial has fewer than no machines"},
	{ID: "bad-approvals", Severity: Error, What: "a plan wants more signatures than people can be expected to give, or fewer than none"},
	{ID: "bad-prefetch", Severity: Error, What: "what machines are to run is fetched too few or too many waves ahead"},
	{ID: "no-trial", Severity: Warning, What: "no machine goes first, or none is left to be spared"},
	{ID: "hold-idle", Severity: Warning, What: "a roll-out holds after a trial that there is not"},
	{ID: "bad-failures", Severity: Error, What: "fewer than no machines may fail"},
	{ID: "failures-all", Severity: Warning, What: "as many machines may fail as a pool has"},
	{ID: "bad-watch", Severity: Error, What: "an application cannot be asked so"},
	{ID: "bad-copy", Severity: Error, What: "a copy of a cluster has more than an API to look at"},
	{ID: "bad-keeping", Severity: Error, What: "backups are due too often, none of them is kept, or they cannot be sent where they should"},
	{ID: "bad-opener", Severity: Error, What: "who is to open backups is no recipient"},
	{ID: "bad-window", Severity: Error, What: "a window never opens, or cannot be read"},
	{ID: "bad-drill", Severity: Error, What: "a drill cannot be carried out as it stands"},
	{ID: "unknown-proof", Severity: Error, What: "a moment for a proof is not known"},
	{ID: "unknown-enrolment", Severity: Error, What: "a kind of enrolment is not known"},
	{ID: "enrolment-renewal", Severity: Error, What: "machines enrol by token and the tool is to renew their certificates"},
	{ID: "pool-newer", Severity: Error, What: "a pool is newer than its API servers"},
	{ID: "pool-skew", Severity: Error, What: "a pool is more than three minors behind"},
	{ID: "pool-behind", Severity: Warning, What: "a pool is held back"},
	{ID: "bad-hardware", Severity: Error, What: "a hardware address is not one"},
	{ID: "hardware-twice", Severity: Error, What: "a hardware address is given twice"},
	{ID: "adopt-unknown", Severity: Error, What: "the site has no bare machine of this address"},
	{ID: "adopt-unlike", Severity: Error, What: "a bare machine has another size or zone than its pool"},
	{ID: "adopt-many", Severity: Error, What: "more machines are adopted than the pool has"},

	{ID: "unknown-image", Severity: Error, What: "a machine image is not declared"},
	{ID: "bad-image", Severity: Error, What: "a machine image cannot be composed"},
	{ID: "image-unused", Severity: Warning, What: "a machine image is not used"},
	{ID: "bad-time-zone", Severity: Error, What: "a time zone is not a name of the database"},
	{ID: "bad-ssh-key", Severity: Error, What: "a public key cannot be read"},
	{ID: "bad-rights", Severity: Error, What: "rights are not known"},
	{ID: "fixed-address", Severity: Error, What: "a fixed address cannot be given"},

	{ID: "api-version-gone", Severity: Error, What: "somebody asks for an API version that the target does not serve", Open: true, Living: true},
	{ID: "api-version-written", Severity: Warning, What: "objects were written in an API version that the target does not take", Living: true},
	{ID: "webhook-unserved", Severity: Error, What: "an admission webhook would refuse pods, since nobody answers for it", Open: true, Living: true},
	{ID: "webhook-alone", Severity: Warning, What: "an admission webhook is answered from one machine alone, which is emptied", Living: true},
	{ID: "datastore-alarm", Severity: Error, What: "a member of the datastore has raised an alarm", Living: true},
	{ID: "datastore-full", Severity: Warning, What: "a member of the datastore has most of what it may have", Living: true},
	{ID: "datastore-behind", Severity: Warning, What: "a member of the datastore is far behind the leader", Living: true},
	{ID: "certificate-ends", Severity: Error, What: "something that vouches ends before the roll-out does", Living: true},
	{ID: "pod-without-place", Severity: Warning, What: "a pod finds no place elsewhere when a machine is emptied", Living: true},
	{ID: "drain-in-vain", Severity: Error, What: "a machine that is to go cannot be emptied, by a rehearsal", Living: true, Open: true},
	{ID: "no-spare-room", Severity: Warning, What: "pods would have no place if one more machine failed during a roll-out", Living: true},
	{ID: "not-looked-at", Severity: Warning, What: "something could not be looked at before a roll-out", Living: true},
}

// OpenRule says whether an exception with a reason may accept what a rule finds.
func OpenRule(rule string) bool { return byRule[rule].Open }

var byRule = func() map[string]Rule {
	out := map[string]Rule{}
	for _, r := range Rules {
		out[r.ID] = r
	}
	return out
}()

func severityOf(rule string) Severity {
	if r, ok := byRule[rule]; ok {
		return r.Severity
	}
	return Error
}
