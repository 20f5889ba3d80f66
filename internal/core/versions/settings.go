package versions

import (
	_ "embed"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// settings.txt is the table of what each shipped minor of a component can be
// told, read from the published modules by tools/settings.
//
//go:embed settings.txt
var settingsText string

// Setting is a flag or a configuration key of a component.
type Setting struct {
	Type   string // bool, int, number, text, duration, list, map, object or any
	Minors []int  // that know it
}

// Settings is the table, by component, then kind (flag or config), then name;
// keys of nested configuration are joined by dots.
type Settings map[string]map[string]map[string]Setting

var shippedSettings = sync.OnceValue(func() Settings { return ParseSettings(settingsText) })

// ParseSettings reads a table: a line is COMPONENT KIND NAME TYPE MINORS.
func ParseSettings(text string) Settings {
	out := Settings{}
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		if len(f) != 5 {
			continue
		}
		s := Setting{Type: f[3]}
		for _, m := range strings.Split(f[4], ",") {
			if n, err := strconv.Atoi(m); err == nil {
				s.Minors = append(s.Minors, n)
			}
		}
		if out[f[0]] == nil {
			out[f[0]] = map[string]map[string]Setting{}
		}
		if out[f[0]][f[1]] == nil {
			out[f[0]][f[1]] = map[string]Setting{}
		}
		out[f[0]][f[1]][f[2]] = s
	}
	return out
}

// Components lists the components of the table.
func (s Settings) Components() []string { return slices.Sorted(maps.Keys(s)) }

// Names lists the names of a kind that a minor of a component knows.
func (s Settings) Names(component, kind string, minor int) []string {
	var out []string
	for _, n := range slices.Sorted(maps.Keys(s[component][kind])) {
		if slices.Contains(s[component][kind][n].Minors, minor) {
			out = append(out, n)
		}
	}
	return out
}

// Gone lists what one minor knows and a later one does not, as COMPONENT NAME.
func (s Settings) Gone(from, to int) []string {
	out := []string{}
	for _, c := range s.Components() {
		for _, kind := range slices.Sorted(maps.Keys(s[c])) {
			later := s.Names(c, kind, to)
			if len(later) == 0 {
				continue // nothing is known of that minor
			}
			for _, n := range s.Names(c, kind, from) {
				if _, known := slices.BinarySearch(later, n); !known {
					out = append(out, c+" "+n)
				}
			}
		}
	}
	return out
}

var integer = regexp.MustCompile(`^-?\d+$`)

// Takes says why a value does not go with a setting, or nothing. Flags are
// always text; values of configuration are as YAML has them.
func (s Setting) Takes(value any) string {
	text, isText := value.(string)
	ok := true
	switch s.Type {
	case "bool":
		_, ok = value.(bool)
		ok = ok || isText && (text == "true" || text == "false")
	case "int":
		_, ok = value.(int)
		ok = ok || isText && integer.MatchString(text)
	case "number":
		switch value.(type) {
		case int, float64:
		default:
			_, err := strconv.ParseFloat(text, 64)
			ok = isText && err == nil
		}
	case "duration":
		_, err := time.ParseDuration(text)
		ok = isText && err == nil
	case "text":
		ok = isText
	case "list":
		_, ok = value.([]any)
	case "map", "object":
		_, ok = value.(map[string]any)
	}
	if ok {
		return ""
	}
	return fmt.Sprintf("it takes %s", map[string]string{"bool": "true or false", "int": "a whole number", "number": "a number", "duration": "a time span such as 30s", "text": "text", "list": "a list", "map": "keys with values", "object": "keys with values"}[s.Type])
}

// Owned are the settings that Verbund derives from the declaration itself and
// that can therefore not be given: a test of the rendering holds this list
// against what is rendered.
var Owned = map[string][]string{
	"kube-apiserver": {"advertise-address", "allow-privileged", "authorization-mode", "bind-address", "client-ca-file", "enable-admission-plugins", "endpoint-reconciler-type",
		"etcd-cafile", "etcd-certfile", "etcd-keyfile", "etcd-servers", "kubelet-certificate-authority", "kubelet-client-certificate", "kubelet-client-key",
		"kubelet-preferred-address-types", "proxy-client-cert-file", "proxy-client-key-file", "requestheader-allowed-names", "requestheader-client-ca-file",
		"requestheader-extra-headers-prefix", "requestheader-group-headers", "requestheader-username-headers", "secure-port", "service-account-issuer",
		"service-account-key-file", "service-account-signing-key-file", "service-account-max-token-expiration", "service-account-extend-token-expiration",
		"enable-bootstrap-token-auth", "encryption-provider-config", "service-cluster-ip-range", "shutdown-delay-duration", "shutdown-watch-termination-grace-period", "tls-cert-file", "tls-private-key-file"},
	"kube-controller-manager": {"allocate-node-cidrs", "authentication-kubeconfig", "authorization-kubeconfig", "bind-address", "cluster-cidr", "cluster-name",
		"cluster-signing-duration", "cluster-signing-kubelet-client-cert-file", "cluster-signing-kubelet-client-key-file",
		"cluster-signing-kubelet-serving-cert-file", "cluster-signing-kubelet-serving-key-file", "kubeconfig", "leader-elect", "leader-elect-lease-duration", "leader-elect-renew-deadline",
		"leader-elect-retry-period", "node-cidr-mask-size", "node-monitor-grace-period", "root-ca-file", "secure-port", "service-account-private-key-file",
		"service-cluster-ip-range", "use-service-account-credentials"},
	"kube-scheduler": {"authentication-kubeconfig", "authorization-kubeconfig", "bind-address", "config", "secure-port", "clientConnection", "leaderElection"},
	"kubelet": {"address", "port", "healthzBindAddress", "healthzPort", "authentication", "authorization", "tlsCertFile", "tlsPrivateKeyFile", "rotateCertificates", "serverTLSBootstrap",
		"containerRuntimeEndpoint", "cgroupDriver", "clusterDomain", "clusterDNS", "nodeStatusUpdateFrequency", "nodeLeaseDurationSeconds", "resolvConf", "registerWithTaints"},
	"kube-proxy": {"bindAddress", "healthzBindAddress", "metricsBindAddress", "hostnameOverride", "clusterCIDR", "mode", "nodePortAddresses", "clientConnection"},
	"etcd": {"name", "data-dir", "listen-client-urls", "advertise-client-urls", "listen-peer-urls", "initial-advertise-peer-urls",
		"initial-cluster", "initial-cluster-state", "initial-cluster-token", "client-transport-security", "peer-transport-security"},
}

// IsOwned says whether a setting, or what it is nested in, is Verbund's own.
func IsOwned(component, name string) bool {
	for _, o := range Owned[component] {
		if name == o || strings.HasPrefix(name, o+".") {
			return true
		}
	}
	return false
}
