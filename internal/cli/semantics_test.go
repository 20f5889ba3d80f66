package cli_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	admissionv1 "k8s.io/api/admissionregistration/v1"
	appsv1 "k8s.io/api/apps/v1"
	authv1 "k8s.io/api/authentication/v1"
	authzv1 "k8s.io/api/authorization/v1"
	corev1 "k8s.io/api/core/v1"
	policyv1 "k8s.io/api/policy/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/apimachinery/pkg/util/intstr"
	"k8s.io/client-go/kubernetes"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"
)

// asked is one thing that is asked of an API server, and what a real one says: a reason of
// Kubernetes' own, or what came of it.
type asked struct {
	name string
	want string
	do   func(ctx context.Context, q *questions) (string, error)
}

// questions are asked in a namespace of their own.
type questions struct {
	*kubernetes.Clientset
	cfg *rest.Config
	ns  string
}

func (q *questions) configMap(ctx context.Context, name string, data map[string]string) (*corev1.ConfigMap, error) {
	return q.CoreV1().ConfigMaps(q.ns).Create(ctx, &corev1.ConfigMap{ObjectMeta: metav1.ObjectMeta{Name: name}, Data: data}, metav1.CreateOptions{})
}

func (q *questions) deployment(ctx context.Context, name string) (*appsv1.Deployment, error) {
	l, none := map[string]string{"app": name}, int32(0)
	return q.AppsV1().Deployments(q.ns).Create(ctx, &appsv1.Deployment{ObjectMeta: metav1.ObjectMeta{Name: name}, Spec: appsv1.DeploymentSpec{Replicas: &none, Selector: &metav1.LabelSelector{MatchLabels: l},
		Template: corev1.PodTemplateSpec{ObjectMeta: metav1.ObjectMeta{Labels: l}, Spec: corev1.PodSpec{Containers: []corev1.Container{{Name: "one", Image: "images.test/one:1"}}}}}}, metav1.CreateOptions{})
}

// gone waits for an object to go, and says whether it did.
func gone(ctx context.Context, get func() error) (string, error) {
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for end := time.Now().Add(20 * time.Second); ; {
		err := get()
		if apierrors.IsNotFound(err) {
			return "gone", nil
		}
		if err != nil || time.Now().After(end) {
			return "still there", err
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return "", ctx.Err()
		}
	}
}

// semantics is what clients of this product, and people with kubectl, go by. It is long because
// it is a list.
var semantics = []asked{
	{"get what is not there", "NotFound", func(ctx context.Context, q *questions) (string, error) {
		_, err := q.CoreV1().ConfigMaps(q.ns).Get(ctx, "none", metav1.GetOptions{})
		return "", err
	}},
	{"create twice", "AlreadyExists", func(ctx context.Context, q *questions) (string, error) {
		if _, err := q.configMap(ctx, "twice", nil); err != nil {
			return "", err
		}
		_, err := q.configMap(ctx, "twice", nil)
		return "", err
	}},
	{"create in a namespace that is not there", "NotFound", func(ctx context.Context, q *questions) (string, error) {
		o := *q
		o.ns = "nowhere"
		_, err := o.configMap(ctx, "x", nil)
		return "", err
	}},
	{"a name that is none", "Invalid", func(ctx context.Context, q *questions) (string, error) {
		_, err := q.configMap(ctx, "Upper_Case", nil)
		return "", err
	}},
	{"generateName", "made-XXXXX", func(ctx context.Context, q *questions) (string, error) {
		c, err := q.CoreV1().ConfigMaps(q.ns).Create(ctx, &corev1.ConfigMap{ObjectMeta: metav1.ObjectMeta{GenerateName: "made-"}}, metav1.CreateOptions{})
		if err != nil || len(c.Name) != len("made-XXXXX") {
			return c.Name, err
		}
		return "made-XXXXX", nil
	}},
	{"a version that goes, and that nobody told it to serve", "NotFound", func(ctx context.Context, q *questions) (string, error) {
		_, err := q.StorageV1beta1().VolumeAttributesClasses().List(ctx, metav1.ListOptions{})
		return "", err
	}},
	{"who wrote it, in which version", "harbour v1 FieldsV1", func(ctx context.Context, q *questions) (string, error) {
		return whoChanged(ctx, q, "managed", map[string]string{"b": "2"})
	}},
	{"who wrote it, when there was nothing in it at first", "nobody", func(ctx context.Context, q *questions) (string, error) {
		return whoChanged(ctx, q, "unmanaged", nil)
	}},
	{"a webhook that nobody answers for", "InternalError", func(ctx context.Context, q *questions) (string, error) {
		none, secs := admissionv1.SideEffectClassNone, int32(2)
		hooks := q.AdmissionregistrationV1().ValidatingWebhookConfigurations()
		if _, err := hooks.Create(ctx, &admissionv1.ValidatingWebhookConfiguration{ObjectMeta: metav1.ObjectMeta{Name: q.ns + "-checks"}, Webhooks: []admissionv1.ValidatingWebhook{{Name: "checks.seamark.test", SideEffects: &none, TimeoutSeconds: &secs, AdmissionReviewVersions: []string{"v1"},
			ObjectSelector: &metav1.LabelSelector{MatchLabels: map[string]string{"checked": "yes"}},
			Rules:          []admissionv1.RuleWithOperations{{Operations: []admissionv1.OperationType{admissionv1.Create}, Rule: admissionv1.Rule{APIGroups: []string{""}, APIVersions: []string{"v1"}, Resources: []string{"configmaps"}}}},
			ClientConfig:   admissionv1.WebhookClientConfig{Service: &admissionv1.ServiceReference{Namespace: q.ns, Name: "nobody"}}}}}, metav1.CreateOptions{}); err != nil {
			return "", err
		}
		defer hooks.Delete(context.WithoutCancel(ctx), q.ns+"-checks", metav1.DeleteOptions{})
		// It takes a moment until the server goes by it.
		for n := 0; ; n++ {
			_, err := q.CoreV1().ConfigMaps(q.ns).Create(ctx, &corev1.ConfigMap{ObjectMeta: metav1.ObjectMeta{Name: fmt.Sprint("checked-", n), Labels: map[string]string{"checked": "yes"}}}, metav1.CreateOptions{})
			if err != nil || n == 200 {
				return "let through", err
			}
			select {
			case <-ctx.Done():
				return "", ctx.Err()
			case <-time.After(50 * time.Millisecond):
			}
		}
	}},
	{"update what somebody else has changed", "Conflict", func(ctx context.Context, q *questions) (string, error) {
		c, err := q.configMap(ctx, "stale", nil)
		if err != nil {
			return "", err
		}
		old := c.DeepCopy()
		c.Data = map[string]string{"a": "1"}
		if _, err := q.CoreV1().ConfigMaps(q.ns).Update(ctx, c, metav1.UpdateOptions{}); err != nil {
			return "", err
		}
		old.Data = map[string]string{"a": "2"}
		_, err = q.CoreV1().ConfigMaps(q.ns).Update(ctx, old, metav1.UpdateOptions{})
		return "", err
	}},
	{"update without a version", "2", func(ctx context.Context, q *questions) (string, error) {
		if _, err := q.configMap(ctx, "unversioned", nil); err != nil {
			return "", err
		}
		c, err := q.CoreV1().ConfigMaps(q.ns).Update(ctx, &corev1.ConfigMap{ObjectMeta: metav1.ObjectMeta{Name: "unversioned"}, Data: map[string]string{"a": "2"}}, metav1.UpdateOptions{})
		return c.Data["a"], err
	}},
	{"update with another uid", "Conflict", func(ctx context.Context, q *questions) (string, error) {
		c, err := q.configMap(ctx, "identity", nil)
		if err != nil {
			return "", err
		}
		c.UID = "00000000-0000-0000-0000-000000000000"
		_, err = q.CoreV1().ConfigMaps(q.ns).Update(ctx, c, metav1.UpdateOptions{})
		return "", err
	}},
	{"an update that changes nothing", "the same version", func(ctx context.Context, q *questions) (string, error) {
		c, err := q.configMap(ctx, "unchanged", map[string]string{"a": "1"})
		if err != nil {
			return "", err
		}
		n, err := q.CoreV1().ConfigMaps(q.ns).Update(ctx, c, metav1.UpdateOptions{})
		if err == nil && n.ResourceVersion == c.ResourceVersion {
			return "the same version", nil
		}
		return "another version", err
	}},
	{"an immutable config map", "Invalid", func(ctx context.Context, q *questions) (string, error) {
		yes := true
		c, err := q.CoreV1().ConfigMaps(q.ns).Create(ctx, &corev1.ConfigMap{ObjectMeta: metav1.ObjectMeta{Name: "immutable"}, Immutable: &yes}, metav1.CreateOptions{})
		if err != nil {
			return "", err
		}
		c.Data = map[string]string{"a": "1"}
		_, err = q.CoreV1().ConfigMaps(q.ns).Update(ctx, c, metav1.UpdateOptions{})
		return "", err
	}},
	{"lists in pieces", "2 then 1", func(ctx context.Context, q *questions) (string, error) {
		for _, n := range []string{"a", "b", "c"} {
			if _, err := q.CoreV1().ServiceAccounts(q.ns).Create(ctx, &corev1.ServiceAccount{ObjectMeta: metav1.ObjectMeta{Name: "piece-" + n, Labels: map[string]string{"piece": n}}}, metav1.CreateOptions{}); err != nil {
				return "", err
			}
		}
		one, err := q.CoreV1().ServiceAccounts(q.ns).List(ctx, metav1.ListOptions{LabelSelector: "piece", Limit: 2})
		if err != nil {
			return "", err
		}
		two, err := q.CoreV1().ServiceAccounts(q.ns).List(ctx, metav1.ListOptions{LabelSelector: "piece", Limit: 2, Continue: one.Continue})
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%d then %d%s", len(one.Items), len(two.Items), two.Continue), nil
	}},
	{"a token of a list that is none", "BadRequest", func(ctx context.Context, q *questions) (string, error) {
		_, err := q.CoreV1().ConfigMaps(q.ns).List(ctx, metav1.ListOptions{Limit: 1, Continue: "nonsense"})
		return "", err
	}},
	{"labels that are set", "piece-a piece-c", func(ctx context.Context, q *questions) (string, error) {
		l, err := q.CoreV1().ServiceAccounts(q.ns).List(ctx, metav1.ListOptions{LabelSelector: "piece in (a, c)"})
		var names []string
		for _, x := range l.Items {
			names = append(names, x.Name)
		}
		return strings.Join(names, " "), err
	}},
	{"a selector that is none", "BadRequest", func(ctx context.Context, q *questions) (string, error) {
		_, err := q.CoreV1().ConfigMaps(q.ns).List(ctx, metav1.ListOptions{LabelSelector: "a b"})
		return "", err
	}},
	{"a field by name", "1", func(ctx context.Context, q *questions) (string, error) {
		l, err := q.CoreV1().ServiceAccounts(q.ns).List(ctx, metav1.ListOptions{FieldSelector: "metadata.name=piece-b"})
		return fmt.Sprint(len(l.Items)), err
	}},
	{"a field that is not selected by", "BadRequest", func(ctx context.Context, q *questions) (string, error) {
		_, err := q.CoreV1().ConfigMaps(q.ns).List(ctx, metav1.ListOptions{FieldSelector: "data.a=1"})
		return "", err
	}},
	{"watch from a list on", "ADDED MODIFIED DELETED", func(ctx context.Context, q *questions) (string, error) {
		l, err := q.CoreV1().ConfigMaps(q.ns).List(ctx, metav1.ListOptions{})
		if err != nil {
			return "", err
		}
		w, err := q.CoreV1().ConfigMaps(q.ns).Watch(ctx, metav1.ListOptions{ResourceVersion: l.ResourceVersion, FieldSelector: "metadata.name=watched"})
		if err != nil {
			return "", err
		}
		defer w.Stop()
		c, err := q.configMap(ctx, "watched", nil)
		if err == nil {
			c.Data = map[string]string{"a": "1"}
			_, err = q.CoreV1().ConfigMaps(q.ns).Update(ctx, c, metav1.UpdateOptions{})
		}
		if err == nil {
			err = q.CoreV1().ConfigMaps(q.ns).Delete(ctx, "watched", metav1.DeleteOptions{})
		}
		if err != nil {
			return "", err
		}
		var got []string
		for len(got) < 3 {
			select {
			case e, ok := <-w.ResultChan():
				if !ok {
					return strings.Join(got, " ") + " closed", nil
				}
				got = append(got, string(e.Type))
			case <-time.After(10 * time.Second):
				return strings.Join(got, " ") + " and no more", nil
			}
		}
		return strings.Join(got, " "), nil
	}},
	{"watch into the future", "Timeout", func(ctx context.Context, q *questions) (string, error) {
		_, err := q.CoreV1().ConfigMaps(q.ns).List(ctx, metav1.ListOptions{ResourceVersion: "99999999999", ResourceVersionMatch: metav1.ResourceVersionMatchNotOlderThan})
		return "", err
	}},
	{"JSON patch whose test fails", "Invalid", func(ctx context.Context, q *questions) (string, error) {
		if _, err := q.configMap(ctx, "patched", map[string]string{"a": "1", "b": "2"}); err != nil {
			return "", err
		}
		_, err := q.CoreV1().ConfigMaps(q.ns).Patch(ctx, "patched", types.JSONPatchType, []byte(`[{"op":"test","path":"/data/a","value":"9"}]`), metav1.PatchOptions{})
		return "", err
	}},
	{"merge patch takes away", "map[b:2]", func(ctx context.Context, q *questions) (string, error) {
		c, err := q.CoreV1().ConfigMaps(q.ns).Patch(ctx, "patched", types.MergePatchType, []byte(`{"data":{"a":null}}`), metav1.PatchOptions{})
		return fmt.Sprint(c.Data), err
	}},
	{"strategic patch merges by name", "images.test/one:1 A=1 B=2", func(ctx context.Context, q *questions) (string, error) {
		if _, err := q.deployment(ctx, "strategic"); err != nil {
			return "", err
		}
		got := ""
		for _, e := range []string{"A=1", "B=2"} {
			name, value, _ := strings.Cut(e, "=")
			d, err := q.AppsV1().Deployments(q.ns).Patch(ctx, "strategic", types.StrategicMergePatchType, fmt.Appendf(nil, `{"spec":{"template":{"spec":{"containers":[{"name":"one","env":[{"name":%q,"value":%q}]}]}}}}`, name, value), metav1.PatchOptions{})
			if err != nil {
				return "", err
			}
			got = d.Spec.Template.Spec.Containers[0].Image
			for _, e := range slices.SortedFunc(slices.Values(d.Spec.Template.Spec.Containers[0].Env), func(a, b corev1.EnvVar) int { return strings.Compare(a.Name, b.Name) }) {
				got += " " + e.Name + "=" + e.Value
			}
		}
		return got, nil
	}},
	{"a patch that is none", "BadRequest", func(ctx context.Context, q *questions) (string, error) {
		_, err := q.CoreV1().ConfigMaps(q.ns).Patch(ctx, "patched", types.MergePatchType, []byte(`{"data":`), metav1.PatchOptions{})
		return "", err
	}},
	{"server-side apply", "applied", func(ctx context.Context, q *questions) (string, error) {
		c, err := q.CoreV1().ConfigMaps(q.ns).Patch(ctx, "applied", types.ApplyPatchType, []byte("apiVersion: v1\nkind: ConfigMap\nmetadata: {name: applied}\ndata: {a: \"1\"}\n"), metav1.PatchOptions{FieldManager: "test"})
		return c.Name, err
	}},
	{"dry run", "NotFound", func(ctx context.Context, q *questions) (string, error) {
		if _, err := q.CoreV1().ConfigMaps(q.ns).Create(ctx, &corev1.ConfigMap{ObjectMeta: metav1.ObjectMeta{Name: "dry"}}, metav1.CreateOptions{DryRun: []string{metav1.DryRunAll}}); err != nil {
			return "", fmt.Errorf("the dry run itself: %w", err)
		}
		_, err := q.CoreV1().ConfigMaps(q.ns).Get(ctx, "dry", metav1.GetOptions{})
		return "", err
	}},
	{"delete only what is meant", "Conflict", func(ctx context.Context, q *questions) (string, error) {
		if _, err := q.configMap(ctx, "meant", nil); err != nil {
			return "", err
		}
		other := types.UID("00000000-0000-0000-0000-000000000000")
		return "", q.CoreV1().ConfigMaps(q.ns).Delete(ctx, "meant", metav1.DeleteOptions{Preconditions: &metav1.Preconditions{UID: &other}})
	}},
	{"a finalizer keeps it", "kept, then gone", func(ctx context.Context, q *questions) (string, error) {
		c, err := q.CoreV1().ConfigMaps(q.ns).Create(ctx, &corev1.ConfigMap{ObjectMeta: metav1.ObjectMeta{Name: "final", Finalizers: []string{"verbund.test/wait"}}}, metav1.CreateOptions{})
		if err != nil {
			return "", err
		}
		if err := q.CoreV1().ConfigMaps(q.ns).Delete(ctx, "final", metav1.DeleteOptions{}); err != nil {
			return "", err
		}
		if c, err = q.CoreV1().ConfigMaps(q.ns).Get(ctx, "final", metav1.GetOptions{}); err != nil || c.DeletionTimestamp == nil {
			return "not kept", err
		}
		c.Finalizers = nil
		if _, err := q.CoreV1().ConfigMaps(q.ns).Update(ctx, c, metav1.UpdateOptions{}); err != nil {
			return "", err
		}
		s, err := gone(ctx, func() error {
			_, err := q.CoreV1().ConfigMaps(q.ns).Get(ctx, "final", metav1.GetOptions{})
			return err
		})
		return "kept, then " + s, err
	}},
	{"what is owned goes with its owner", "gone", func(ctx context.Context, q *questions) (string, error) {
		o, err := q.configMap(ctx, "owner", nil)
		if err != nil {
			return "", err
		}
		if _, err := q.CoreV1().ConfigMaps(q.ns).Create(ctx, &corev1.ConfigMap{ObjectMeta: metav1.ObjectMeta{Name: "owned", OwnerReferences: []metav1.OwnerReference{{APIVersion: "v1", Kind: "ConfigMap", Name: o.Name, UID: o.UID}}}}, metav1.CreateOptions{}); err != nil {
			return "", err
		}
		if err := q.CoreV1().ConfigMaps(q.ns).Delete(ctx, "owner", metav1.DeleteOptions{}); err != nil {
			return "", err
		}
		return gone(ctx, func() error {
			_, err := q.CoreV1().ConfigMaps(q.ns).Get(ctx, "owned", metav1.GetOptions{})
			return err
		})
	}},
	{"generation counts what is wanted", "1 2 2", func(ctx context.Context, q *questions) (string, error) {
		d, err := q.deployment(ctx, "counted")
		if err != nil {
			return "", err
		}
		got := fmt.Sprint(d.Generation)
		for _, p := range []string{`{"spec":{"template":{"metadata":{"labels":{"more":"x"}}}}}`, `{"metadata":{"labels":{"x":"y"}}}`} {
			if d, err = q.AppsV1().Deployments(q.ns).Patch(ctx, "counted", types.MergePatchType, []byte(p), metav1.PatchOptions{}); err != nil {
				return got, err
			}
			got += fmt.Sprint(" ", d.Generation)
		}
		return got, nil
	}},
	{"status is not written by the way", "0", func(ctx context.Context, q *questions) (string, error) {
		d, err := q.AppsV1().Deployments(q.ns).Patch(ctx, "counted", types.MergePatchType, []byte(`{"status":{"collisionCount":7}}`), metav1.PatchOptions{})
		if err != nil || d.Status.CollisionCount == nil {
			return "0", err
		}
		return fmt.Sprint(*d.Status.CollisionCount), nil
	}},
	{"a selector does not change", "Invalid", func(ctx context.Context, q *questions) (string, error) {
		_, err := q.AppsV1().Deployments(q.ns).Patch(ctx, "counted", types.JSONPatchType, []byte(`[{"op":"replace","path":"/spec/selector/matchLabels/app","value":"other"},{"op":"replace","path":"/spec/template/metadata/labels/app","value":"other"}]`), metav1.PatchOptions{})
		return "", err
	}},
	{"scale", "2", func(ctx context.Context, q *questions) (string, error) {
		s, err := q.AppsV1().Deployments(q.ns).GetScale(ctx, "strategic", metav1.GetOptions{})
		if err != nil {
			return "", err
		}
		s.Spec.Replicas = 2
		if _, err := q.AppsV1().Deployments(q.ns).UpdateScale(ctx, "strategic", s, metav1.UpdateOptions{}); err != nil {
			return "", err
		}
		d, err := q.AppsV1().Deployments(q.ns).Get(ctx, "strategic", metav1.GetOptions{})
		return fmt.Sprint(*d.Spec.Replicas), err
	}},
	{"strictly, a field that there is not", "BadRequest", func(ctx context.Context, q *questions) (string, error) {
		return "", q.CoreV1().RESTClient().Post().Namespace(q.ns).Resource("configmaps").Param("fieldValidation", "Strict").Body([]byte(`{"apiVersion":"v1","kind":"ConfigMap","metadata":{"name":"strict"},"dtaa":{}}`)).SetHeader("Content-Type", "application/json").Do(ctx).Error()
	}},
	{"a service gets an address", "an address", func(ctx context.Context, q *questions) (string, error) {
		s, err := q.CoreV1().Services(q.ns).Create(ctx, &corev1.Service{ObjectMeta: metav1.ObjectMeta{Name: "addressed"}, Spec: corev1.ServiceSpec{Ports: []corev1.ServicePort{{Port: 80, TargetPort: intstr.FromInt32(80)}}}}, metav1.CreateOptions{})
		if err == nil && strings.Count(s.Spec.ClusterIP, ".") == 3 {
			return "an address", nil
		}
		return s.Spec.ClusterIP, err
	}},
	{"a service's address out of range", "Invalid", func(ctx context.Context, q *questions) (string, error) {
		_, err := q.CoreV1().Services(q.ns).Create(ctx, &corev1.Service{ObjectMeta: metav1.ObjectMeta{Name: "outside"}, Spec: corev1.ServiceSpec{ClusterIP: "192.0.2.1", Ports: []corev1.ServicePort{{Port: 80}}}}, metav1.CreateOptions{})
		return "", err
	}},
	{"a node port that is taken", "Invalid", func(ctx context.Context, q *questions) (string, error) {
		for _, n := range []string{"port-a", "port-b"} {
			if _, err := q.CoreV1().Services(q.ns).Create(ctx, &corev1.Service{ObjectMeta: metav1.ObjectMeta{Name: n}, Spec: corev1.ServiceSpec{Type: corev1.ServiceTypeNodePort, Ports: []corev1.ServicePort{{Port: 80, NodePort: 31234}}}}, metav1.CreateOptions{}); err != nil {
				return "", err
			}
		}
		return "both", nil
	}},
	{"a token of an account", "three parts", func(ctx context.Context, q *questions) (string, error) {
		r, err := q.CoreV1().ServiceAccounts(q.ns).CreateToken(ctx, "piece-a", &authv1.TokenRequest{}, metav1.CreateOptions{})
		if err == nil && strings.Count(r.Status.Token, ".") == 2 {
			return "three parts", nil
		}
		return r.Status.Token, err
	}},
	{"what somebody may", "true", func(ctx context.Context, q *questions) (string, error) {
		r, err := q.AuthorizationV1().SelfSubjectAccessReviews().Create(ctx, &authzv1.SelfSubjectAccessReview{Spec: authzv1.SelfSubjectAccessReviewSpec{ResourceAttributes: &authzv1.ResourceAttributes{Verb: "delete", Resource: "nodes"}}}, metav1.CreateOptions{})
		return fmt.Sprint(r.Status.Allowed), err
	}},
	{"somebody who may nothing", "Forbidden", func(ctx context.Context, q *questions) (string, error) {
		cfg := rest.CopyConfig(q.cfg)
		cfg.Impersonate.UserName = "nobody"
		k, err := kubernetes.NewForConfig(cfg)
		if err != nil {
			return "", err
		}
		_, err = k.CoreV1().Pods(q.ns).List(ctx, metav1.ListOptions{})
		return "", err
	}},
	{"a token that is none", "Unauthorized", func(ctx context.Context, q *questions) (string, error) {
		cfg := rest.AnonymousClientConfig(q.cfg)
		cfg.BearerToken = "nonsense"
		k, err := kubernetes.NewForConfig(cfg)
		if err != nil {
			return "", err
		}
		_, err = k.CoreV1().Pods(q.ns).List(ctx, metav1.ListOptions{})
		return "", err
	}},
	{"secrets as text", "s3", func(ctx context.Context, q *questions) (string, error) {
		s, err := q.CoreV1().Secrets(q.ns).Create(ctx, &corev1.Secret{ObjectMeta: metav1.ObjectMeta{Name: "text"}, StringData: map[string]string{"a": "s3"}}, metav1.CreateOptions{})
		return string(s.Data["a"]), err
	}},
	{"a pod without a node waits", "Pending", func(ctx context.Context, q *questions) (string, error) {
		p, err := q.CoreV1().Pods(q.ns).Create(ctx, &corev1.Pod{ObjectMeta: metav1.ObjectMeta{Name: "waits"}, Spec: corev1.PodSpec{NodeSelector: map[string]string{"none": "such"}, Containers: []corev1.Container{{Name: "one", Image: "images.test/one:1"}}}}, metav1.CreateOptions{})
		return string(p.Status.Phase), err
	}},
	{"a pod's node does not change", "Invalid", func(ctx context.Context, q *questions) (string, error) {
		_, err := q.CoreV1().Pods(q.ns).Patch(ctx, "waits", types.MergePatchType, []byte(`{"spec":{"nodeName":"elsewhere"}}`), metav1.PatchOptions{})
		return "", err
	}},
	{"a patch that renames", "BadRequest", func(ctx context.Context, q *questions) (string, error) {
		if _, err := q.configMap(ctx, "renamed", nil); err != nil {
			return "", err
		}
		_, err := q.CoreV1().ConfigMaps(q.ns).Patch(ctx, "renamed", types.MergePatchType, []byte(`{"metadata":{"name":"other"}}`), metav1.PatchOptions{})
		return "", err
	}},
	{"an address that is none", "Invalid", func(ctx context.Context, q *questions) (string, error) {
		_, err := q.CoreV1().Services(q.ns).Create(ctx, &corev1.Service{ObjectMeta: metav1.ObjectMeta{Name: "nowhere"}, Spec: corev1.ServiceSpec{ClusterIP: "x", Ports: []corev1.ServicePort{{Port: 80}}}}, metav1.CreateOptions{})
		return "", err
	}},
	{"a port twice", "Invalid", func(ctx context.Context, q *questions) (string, error) {
		_, err := q.CoreV1().Services(q.ns).Create(ctx, &corev1.Service{ObjectMeta: metav1.ObjectMeta{Name: "twice"}, Spec: corev1.ServiceSpec{Ports: []corev1.ServicePort{{Name: "a", Port: 80}, {Name: "b", Port: 80}}}}, metav1.CreateOptions{})
		return "", err
	}},
	{"a range of pods that is none", "Invalid", func(ctx context.Context, q *questions) (string, error) {
		_, err := q.CoreV1().Nodes().Create(ctx, &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: q.ns + "-nowhere"}, Spec: corev1.NodeSpec{PodCIDR: "300.1.1.1/99"}}, metav1.CreateOptions{})
		return "", err
	}},
	{"an account that is a path", "Forbidden", func(ctx context.Context, q *questions) (string, error) {
		_, err := q.CoreV1().Pods(q.ns).Create(ctx, &corev1.Pod{ObjectMeta: metav1.ObjectMeta{Name: "strange"}, Spec: corev1.PodSpec{ServiceAccountName: "../x", Containers: []corev1.Container{{Name: "one", Image: "images.test/one:1"}}}}, metav1.CreateOptions{})
		return "", err
	}},
	{"the log of a container that there is not", "BadRequest", func(ctx context.Context, q *questions) (string, error) {
		b, err := q.CoreV1().Pods(q.ns).GetLogs("waits", &corev1.PodLogOptions{Container: "../../kube-system/x"}).DoRaw(ctx)
		return string(b), err
	}},
	{"the cluster's by a namespace's path", "NotFound", func(ctx context.Context, q *questions) (string, error) {
		return "", q.RbacV1().RESTClient().Get().AbsPath("/apis/rbac.authorization.k8s.io/v1/namespaces/" + q.ns + "/clusterrolebindings/cluster-admin").Do(ctx).Error()
	}},
	{"a budget with neither limit", "made", func(ctx context.Context, q *questions) (string, error) {
		_, err := q.PolicyV1().PodDisruptionBudgets(q.ns).Create(ctx, &policyv1.PodDisruptionBudget{ObjectMeta: metav1.ObjectMeta{Name: "neither"}, Spec: policyv1.PodDisruptionBudgetSpec{Selector: &metav1.LabelSelector{MatchLabels: map[string]string{"a": "b"}}}}, metav1.CreateOptions{})
		return "made", err
	}},
	{"an empty namespace goes", "gone", func(ctx context.Context, q *questions) (string, error) {
		if _, err := q.CoreV1().Namespaces().Create(ctx, &corev1.Namespace{ObjectMeta: metav1.ObjectMeta{Name: q.ns + "-gone"}}, metav1.CreateOptions{}); err != nil {
			return "", err
		}
		if err := q.CoreV1().Namespaces().Delete(ctx, q.ns+"-gone", metav1.DeleteOptions{}); err != nil {
			return "", err
		}
		return gone(ctx, func() error {
			_, err := q.CoreV1().Namespaces().Get(ctx, q.ns+"-gone", metav1.GetOptions{})
			return err
		})
	}},
}

// standInRefuses are those of the questions that the stand-in of the API server refuses in
// words instead of answering (docs/architecture.md), with a word of the refusal.
var standInRefuses = map[string]string{"server-side apply": "is not served here"}

// whoChanged says what is noted of the second one, on what one made and another one changed.
func whoChanged(ctx context.Context, q *questions, name string, first map[string]string) (string, error) {
	c, err := q.CoreV1().ConfigMaps(q.ns).Create(ctx, &corev1.ConfigMap{ObjectMeta: metav1.ObjectMeta{Name: name}, Data: first}, metav1.CreateOptions{FieldManager: "quay"})
	if err != nil {
		return "", err
	}
	c.Data = map[string]string{"a": "1"}
	if c, err = q.CoreV1().ConfigMaps(q.ns).Update(ctx, c, metav1.UpdateOptions{FieldManager: "harbour"}); err != nil {
		return "", err
	}
	// Of the same second they stand in the order of their names.
	for _, f := range c.ManagedFields {
		if f.Manager == "harbour" {
			return f.Manager + " " + f.APIVersion + " " + f.FieldsType, nil
		}
	}
	return "nobody", nil
}

// askAll asks everything, and returns what was answered otherwise than a real API server does.
func askAll(t *testing.T, cfg *rest.Config) (differs []string) {
	t.Helper()
	cfg = rest.CopyConfig(cfg)
	cfg.QPS = -1
	k, err := kubernetes.NewForConfig(cfg)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	q := &questions{k, cfg, "questions"}
	if _, err := k.CoreV1().Namespaces().Create(ctx, &corev1.Namespace{ObjectMeta: metav1.ObjectMeta{Name: q.ns}}, metav1.CreateOptions{}); err != nil {
		t.Fatal(err)
	}
	for _, a := range slices.Concat(semantics, identities) {
		got, err := a.do(ctx, q)
		if err != nil {
			if got = string(apierrors.ReasonForError(err)); got == "" {
				got = err.Error()
			}
		}
		if got != a.want {
			differs = append(differs, fmt.Sprintf("%s: %s, and a real one says %s (%v)", a.name, got, a.want, err))
		}
	}
	slices.Sort(differs)
	if err := k.CoreV1().Namespaces().Delete(ctx, q.ns, metav1.DeleteOptions{}); err != nil {
		t.Error(err)
	}
	return differs
}

// The stand-in of the API server answers as a real one does, or refuses in words.
func TestSemantics(t *testing.T) {
	w := newWorld(t, "small", "v1.37.2")
	w.ok("converge", "--yes")
	file := w.path("kubeconfig")
	w.ok("access", "--merge", file)
	cfg, err := clientcmd.BuildConfigFromFlags("", file)
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range askAll(t, cfg) {
		name, _, _ := strings.Cut(d, ": ")
		if word := standInRefuses[name]; word == "" || !strings.Contains(d, word) {
			t.Error(d)
		}
	}
}
