package kubeapi

import (
	"context"
	"time"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/apimachinery/pkg/watch"
	"k8s.io/client-go/rest"
)

// object is a pointer to what the API keeps.
type object[S any] interface {
	*S
	runtime.Object
	metav1.Object
}

// list is a pointer to a list of it.
type list[S any] interface {
	*S
	runtime.Object
}

// Resource is a client of one resource, in one namespace or in all: O is what it keeps, L a list
// of it. Its methods are those of the published typed clients.
type Resource[O, L any, PO object[O], PL list[L]] struct {
	c         rest.Interface
	name      string
	namespace string // empty: of the cluster, or of all namespaces
}

// on begins a request. Objects go in the form that costs the least, as with the published clients.
func (r Resource[O, L, PO, PL]) on(q *rest.Request) *rest.Request {
	return q.UseProtobufAsDefault().NamespaceIfScoped(r.namespace, r.namespace != "").Resource(r.name)
}

// Create makes an object.
func (r Resource[O, L, PO, PL]) Create(ctx context.Context, o PO, opts metav1.CreateOptions) (PO, error) {
	out := PO(new(O))
	err := r.on(r.c.Post()).VersionedParams(&opts, parameters).Body(o).Do(ctx).Into(out)
	return out, err
}

// Update replaces an object.
func (r Resource[O, L, PO, PL]) Update(ctx context.Context, o PO, opts metav1.UpdateOptions) (PO, error) {
	return r.put(ctx, o, opts)
}

// UpdateStatus replaces the status of an object.
func (r Resource[O, L, PO, PL]) UpdateStatus(ctx context.Context, o PO, opts metav1.UpdateOptions) (PO, error) {
	return r.put(ctx, o, opts, "status")
}

func (r Resource[O, L, PO, PL]) put(ctx context.Context, o PO, opts metav1.UpdateOptions, sub ...string) (PO, error) {
	out := PO(new(O))
	err := r.on(r.c.Put()).Name(o.GetName()).SubResource(sub...).VersionedParams(&opts, parameters).Body(o).Do(ctx).Into(out)
	return out, err
}

// Delete deletes an object.
func (r Resource[O, L, PO, PL]) Delete(ctx context.Context, name string, opts metav1.DeleteOptions) error {
	return r.on(r.c.Delete()).Name(name).Body(&opts).Do(ctx).Error()
}

// DeleteCollection deletes all that fit.
func (r Resource[O, L, PO, PL]) DeleteCollection(ctx context.Context, opts metav1.DeleteOptions, of metav1.ListOptions) error {
	return r.on(r.c.Delete()).VersionedParams(&of, parameters).Timeout(timeout(of)).Body(&opts).Do(ctx).Error()
}

// Get reads an object.
func (r Resource[O, L, PO, PL]) Get(ctx context.Context, name string, opts metav1.GetOptions) (PO, error) {
	out := PO(new(O))
	err := r.on(r.c.Get()).Name(name).VersionedParams(&opts, parameters).Do(ctx).Into(out)
	return out, err
}

// List reads all that fit.
func (r Resource[O, L, PO, PL]) List(ctx context.Context, opts metav1.ListOptions) (PL, error) {
	out := PL(new(L))
	err := r.on(r.c.Get()).VersionedParams(&opts, parameters).Timeout(timeout(opts)).Do(ctx).Into(out)
	return out, err
}

// Watch tells what happens to all that fit.
func (r Resource[O, L, PO, PL]) Watch(ctx context.Context, opts metav1.ListOptions) (watch.Interface, error) {
	opts.Watch = true
	return r.on(r.c.Get()).VersionedParams(&opts, parameters).Timeout(timeout(opts)).Watch(ctx)
}

// Patch changes an object.
func (r Resource[O, L, PO, PL]) Patch(ctx context.Context, name string, kind types.PatchType, data []byte, opts metav1.PatchOptions, sub ...string) (PO, error) {
	out := PO(new(O))
	err := r.on(r.c.Patch(kind)).Name(name).SubResource(sub...).VersionedParams(&opts, parameters).Body(data).Do(ctx).Into(out)
	return out, err
}

func timeout(o metav1.ListOptions) time.Duration {
	if o.TimeoutSeconds == nil {
		return 0
	}
	return time.Duration(*o.TimeoutSeconds) * time.Second
}
