package kubeapi

import (
	"context"
	"time"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/apimachinery/pkg/watch"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/cache"
)

// object is a pointer to what the API keeps.
type object interface {
	runtime.Object
	metav1.Object
}

// Resource is a client of one resource, in one namespace or in all: O is what it keeps, L a list
// of it. Its methods are those of the published typed clients. It is an interface since every
// package that meets a generic type compiles all of its methods anew.
type Resource[O object, L runtime.Object] interface {
	// Create makes an object.
	Create(ctx context.Context, o O, opts metav1.CreateOptions) (O, error)
	// Update replaces an object.
	Update(ctx context.Context, o O, opts metav1.UpdateOptions) (O, error)
	// UpdateStatus replaces the status of an object.
	UpdateStatus(ctx context.Context, o O, opts metav1.UpdateOptions) (O, error)
	// Delete deletes an object.
	Delete(ctx context.Context, name string, opts metav1.DeleteOptions) error
	// DeleteCollection deletes all that fit.
	DeleteCollection(ctx context.Context, opts metav1.DeleteOptions, of metav1.ListOptions) error
	// Get reads an object.
	Get(ctx context.Context, name string, opts metav1.GetOptions) (O, error)
	// List reads all that fit.
	List(ctx context.Context, opts metav1.ListOptions) (L, error)
	// Watch tells what happens to all that fit.
	Watch(ctx context.Context, opts metav1.ListOptions) (watch.Interface, error)
	// Patch changes an object.
	Patch(ctx context.Context, name string, kind types.PatchType, data []byte, opts metav1.PatchOptions, sub ...string) (O, error)
	// Cache keeps what the resource lists, and follows it once it runs.
	Cache() cache.SharedIndexInformer
	// CacheOf is Cache of a part: which limits what is listed and followed.
	CacheOf(which func(*metav1.ListOptions)) cache.SharedIndexInformer
}

// resource is a Resource. Its parameters are pointers, so that all of them are compiled once.
type resource[O object, L runtime.Object] struct {
	c         rest.Interface
	name      string
	namespace string // empty: of the cluster, or of all namespaces
	one       func() O
	all       func() L
}

// of is a client of a resource that keeps objects of a type.
func of[O, L any, PO interface {
	*O
	object
}, PL interface {
	*L
	runtime.Object
}](c rest.Interface, name, namespace string) Resource[PO, PL] {
	return &resource[PO, PL]{c, name, namespace, func() PO { return new(O) }, func() PL { return new(L) }}
}

// on begins a request. Objects go in the form that costs the least, as with the published clients.
func (r *resource[O, L]) on(q *rest.Request) *rest.Request {
	return q.UseProtobufAsDefault().NamespaceIfScoped(r.namespace, r.namespace != "").Resource(r.name)
}

func (r *resource[O, L]) Create(ctx context.Context, o O, opts metav1.CreateOptions) (O, error) {
	out := r.one()
	err := r.on(r.c.Post()).VersionedParams(&opts, parameters).Body(o).Do(ctx).Into(out)
	return out, err
}

func (r *resource[O, L]) Update(ctx context.Context, o O, opts metav1.UpdateOptions) (O, error) {
	return r.put(ctx, o, opts)
}

func (r *resource[O, L]) UpdateStatus(ctx context.Context, o O, opts metav1.UpdateOptions) (O, error) {
	return r.put(ctx, o, opts, "status")
}

func (r *resource[O, L]) put(ctx context.Context, o O, opts metav1.UpdateOptions, sub ...string) (O, error) {
	out := r.one()
	err := r.on(r.c.Put()).Name(o.GetName()).SubResource(sub...).VersionedParams(&opts, parameters).Body(o).Do(ctx).Into(out)
	return out, err
}

func (r *resource[O, L]) Delete(ctx context.Context, name string, opts metav1.DeleteOptions) error {
	return r.on(r.c.Delete()).Name(name).Body(&opts).Do(ctx).Error()
}

func (r *resource[O, L]) DeleteCollection(ctx context.Context, opts metav1.DeleteOptions, of metav1.ListOptions) error {
	return r.on(r.c.Delete()).VersionedParams(&of, parameters).Timeout(timeout(of)).Body(&opts).Do(ctx).Error()
}

func (r *resource[O, L]) Get(ctx context.Context, name string, opts metav1.GetOptions) (O, error) {
	out := r.one()
	err := r.on(r.c.Get()).Name(name).VersionedParams(&opts, parameters).Do(ctx).Into(out)
	return out, err
}

func (r *resource[O, L]) List(ctx context.Context, opts metav1.ListOptions) (L, error) {
	out := r.all()
	err := r.on(r.c.Get()).VersionedParams(&opts, parameters).Timeout(timeout(opts)).Do(ctx).Into(out)
	return out, err
}

func (r *resource[O, L]) Watch(ctx context.Context, opts metav1.ListOptions) (watch.Interface, error) {
	opts.Watch = true
	return r.on(r.c.Get()).VersionedParams(&opts, parameters).Timeout(timeout(opts)).Watch(ctx)
}

func (r *resource[O, L]) Patch(ctx context.Context, name string, kind types.PatchType, data []byte, opts metav1.PatchOptions, sub ...string) (O, error) {
	out := r.one()
	err := r.on(r.c.Patch(kind)).Name(name).SubResource(sub...).VersionedParams(&opts, parameters).Body(data).Do(ctx).Into(out)
	return out, err
}

func timeout(o metav1.ListOptions) time.Duration {
	if o.TimeoutSeconds == nil {
		return 0
	}
	return time.Duration(*o.TimeoutSeconds) * time.Second
}
