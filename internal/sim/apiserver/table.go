package apiserver

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	appsv1 "k8s.io/api/apps/v1"
	certv1 "k8s.io/api/certificates/v1"
	coordv1 "k8s.io/api/coordination/v1"
	corev1 "k8s.io/api/core/v1"
	discoveryv1 "k8s.io/api/discovery/v1"
	policyv1 "k8s.io/api/policy/v1"
	"k8s.io/apimachinery/pkg/api/meta"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/util/duration"
)

type tableOpts struct {
	headers bool
	include string
}

// tableOptions says whether the client wants a table.
func tableOptions(r *http.Request) *tableOpts {
	for a := range strings.SplitSeq(r.Header.Get("Accept"), ",") {
		if strings.Contains(a, "as=Table") && strings.Contains(a, "v=v1;") || strings.HasSuffix(strings.TrimSpace(a), "as=Table;v=v1;g=meta.k8s.io") {
			return &tableOpts{true, r.URL.Query().Get("includeObject")}
		}
	}
	return nil
}

// columns of a kind; a leading * marks those that only wide output shows.
var columns = map[string]string{
	"Pod":                       "Name,Ready,Status,Restarts,Age,*IP,*Node,*Nominated Node,*Readiness Gates",
	"Node":                      "Name,Status,Roles,Age,Version,*Internal-IP,*External-IP,*OS-Image,*Kernel-Version,*Container-Runtime",
	"Service":                   "Name,Type,Cluster-IP,External-IP,Port(s),Age,*Selector",
	"Deployment":                "Name,Ready,Up-to-date,Available,Age,*Containers,*Images,*Selector",
	"ReplicaSet":                "Name,Desired,Current,Ready,Age,*Containers,*Images,*Selector",
	"DaemonSet":                 "Name,Desired,Current,Ready,Up-to-date,Available,Node Selector,Age",
	"PodDisruptionBudget":       "Name,Min Available,Max Unavailable,Allowed Disruptions,Age",
	"Namespace":                 "Name,Status,Age",
	"Event":                     "Last Seen,Type,Reason,Object,Message",
	"EndpointSlice":             "Name,AddressType,Ports,Endpoints,Age",
	"Lease":                     "Name,Holder,Age",
	"ConfigMap":                 "Name,Data,Age",
	"Secret":                    "Name,Type,Data,Age",
	"CertificateSigningRequest": "Name,Age,SignerName,Requestor,Condition",
}

func age(t metav1.Time) string {
	if t.IsZero() {
		return "<unknown>"
	}
	return duration.HumanDuration(time.Since(t.Time))
}

func orNone(s string) string {
	if s == "" {
		return "<none>"
	}
	return s
}

// toTable turns objects into rows, as the real server prints them.
func toTable(res *resource, items []runtime.Object, lm metav1.ListMeta, headers bool, include string) runtime.Object {
	t := &metav1.Table{TypeMeta: metav1.TypeMeta{Kind: "Table", APIVersion: "meta.k8s.io/v1"}, ListMeta: lm, Rows: []metav1.TableRow{}}
	cols := columns[res.kind]
	if cols == "" {
		cols = "Name,Age"
	}
	if headers {
		for c := range strings.SplitSeq(cols, ",") {
			d := metav1.TableColumnDefinition{Name: strings.TrimPrefix(c, "*"), Type: "string"}
			if strings.HasPrefix(c, "*") {
				d.Priority = 1
			}
			if c == "Name" {
				d.Format = "name"
			}
			t.ColumnDefinitions = append(t.ColumnDefinitions, d)
		}
	}
	for _, o := range items {
		m, err := meta.Accessor(o)
		if err != nil {
			continue
		}
		row := metav1.TableRow{Cells: cells(o, m)}
		switch include {
		case "None":
		case "Object":
			row.Object.Object = o
		default:
			p := meta.AsPartialObjectMetadata(m)
			p.SetGroupVersionKind(metav1.SchemeGroupVersion.WithKind("PartialObjectMetadata"))
			b, _ := json.Marshal(p)
			row.Object.Raw = b
		}
		t.Rows = append(t.Rows, row)
	}
	return t
}

func cells(o runtime.Object, m metav1.Object) []any {
	name, a := m.GetName(), age(m.GetCreationTimestamp())
	switch o := o.(type) {
	case *corev1.Pod:
		ready, restarts := 0, int32(0)
		for _, c := range o.Status.ContainerStatuses {
			if restarts += c.RestartCount; c.Ready {
				ready++
			}
		}
		return []any{name, fmt.Sprintf("%d/%d", ready, len(o.Spec.Containers)), podStatus(o), restarts, a, orNone(o.Status.PodIP), orNone(o.Spec.NodeName), "<none>", "<none>"}
	case *corev1.Node:
		return nodeCells(o, a)
	case *corev1.Service:
		var ports []string
		for _, p := range o.Spec.Ports {
			s := fmt.Sprint(p.Port)
			if p.NodePort != 0 {
				s += fmt.Sprintf(":%d", p.NodePort)
			}
			ports = append(ports, s+"/"+string(p.Protocol))
		}
		return []any{name, string(o.Spec.Type), o.Spec.ClusterIP, "<none>", strings.Join(ports, ","), a, selector(&metav1.LabelSelector{MatchLabels: o.Spec.Selector})}
	case *appsv1.Deployment:
		cs, is := images(o.Spec.Template)
		return []any{name, fmt.Sprintf("%d/%d", o.Status.ReadyReplicas, *o.Spec.Replicas), o.Status.UpdatedReplicas, o.Status.AvailableReplicas, a, cs, is, selector(o.Spec.Selector)}
	case *appsv1.ReplicaSet:
		cs, is := images(o.Spec.Template)
		return []any{name, *o.Spec.Replicas, o.Status.Replicas, o.Status.ReadyReplicas, a, cs, is, selector(o.Spec.Selector)}
	case *appsv1.DaemonSet:
		st := o.Status
		return []any{name, st.DesiredNumberScheduled, st.CurrentNumberScheduled, st.NumberReady, st.UpdatedNumberScheduled, st.NumberAvailable, selector(&metav1.LabelSelector{MatchLabels: o.Spec.Template.Spec.NodeSelector}), a}
	case *policyv1.PodDisruptionBudget:
		mn, mx := "N/A", "N/A"
		if o.Spec.MinAvailable != nil {
			mn = o.Spec.MinAvailable.String()
		}
		if o.Spec.MaxUnavailable != nil {
			mx = o.Spec.MaxUnavailable.String()
		}
		return []any{name, mn, mx, o.Status.DisruptionsAllowed, a}
	case *corev1.Namespace:
		return []any{name, string(o.Status.Phase), a}
	case *corev1.Event:
		return []any{age(o.LastTimestamp), o.Type, o.Reason, strings.ToLower(o.InvolvedObject.Kind) + "/" + o.InvolvedObject.Name, o.Message}
	case *discoveryv1.EndpointSlice:
		var ps, es []string
		for _, p := range o.Ports {
			ps = append(ps, fmt.Sprint(*p.Port))
		}
		for _, e := range o.Endpoints {
			es = append(es, e.Addresses...)
		}
		return []any{name, string(o.AddressType), orNone(strings.Join(ps, ",")), orNone(strings.Join(es, ",")), a}
	case *coordv1.Lease:
		h := ""
		if o.Spec.HolderIdentity != nil {
			h = *o.Spec.HolderIdentity
		}
		return []any{name, h, a}
	case *corev1.ConfigMap:
		return []any{name, len(o.Data) + len(o.BinaryData), a}
	case *corev1.Secret:
		return []any{name, string(o.Type), len(o.Data), a}
	case *certv1.CertificateSigningRequest:
		c := "Pending"
		for _, x := range o.Status.Conditions {
			c = string(x.Type)
		}
		if len(o.Status.Certificate) > 0 {
			c += ",Issued"
		}
		return []any{name, a, o.Spec.SignerName, o.Spec.Username, c}
	}
	return []any{name, a}
}

func podStatus(p *corev1.Pod) string {
	if p.DeletionTimestamp != nil {
		return "Terminating"
	}
	for _, c := range p.Status.ContainerStatuses {
		if c.State.Waiting != nil && c.State.Waiting.Reason != "" {
			return c.State.Waiting.Reason
		}
	}
	return string(p.Status.Phase)
}

func nodeCells(n *corev1.Node, age string) []any {
	status := "Unknown"
	for _, c := range n.Status.Conditions {
		if c.Type == corev1.NodeReady {
			status = map[corev1.ConditionStatus]string{"True": "Ready", "False": "NotReady", "Unknown": "NotReady"}[c.Status]
		}
	}
	if n.Spec.Unschedulable {
		status += ",SchedulingDisabled"
	}
	var roles []string
	for k := range n.Labels {
		if r, ok := strings.CutPrefix(k, "node-role.kubernetes.io/"); ok {
			roles = append(roles, r)
		}
	}
	slices.Sort(roles)
	ip := ""
	for _, a := range n.Status.Addresses {
		if a.Type == corev1.NodeInternalIP {
			ip = a.Address
		}
	}
	i := n.Status.NodeInfo
	return []any{n.Name, status, orNone(strings.Join(roles, ",")), age, i.KubeletVersion, orNone(ip), "<none>", i.OSImage, i.KernelVersion, i.ContainerRuntimeVersion}
}

func images(t corev1.PodTemplateSpec) (string, string) {
	var cs, is []string
	for _, c := range t.Spec.Containers {
		cs, is = append(cs, c.Name), append(is, c.Image)
	}
	return strings.Join(cs, ","), strings.Join(is, ",")
}

func selector(s *metav1.LabelSelector) string { return orNone(metav1.FormatLabelSelector(s)) }
