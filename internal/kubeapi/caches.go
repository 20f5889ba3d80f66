package kubeapi

import (
	"context"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/watch"
	"k8s.io/client-go/metadata"
	"k8s.io/client-go/tools/cache"
)

func (r *resource[O, L]) Cache() cache.SharedIndexInformer { return r.CacheOf(nil) }

func (r *resource[O, L]) CacheOf(which func(*metav1.ListOptions)) cache.SharedIndexInformer {
	limit := func(o metav1.ListOptions) metav1.ListOptions {
		if which != nil {
			which(&o)
		}
		return o
	}
	return cache.NewSharedIndexInformer(&cache.ListWatch{
		ListWithContextFunc: func(ctx context.Context, o metav1.ListOptions) (runtime.Object, error) { return r.List(ctx, limit(o)) },
		WatchFuncWithContext: func(ctx context.Context, o metav1.ListOptions) (watch.Interface, error) {
			return r.Watch(ctx, limit(o))
		},
	}, r.one(), 0, cache.Indexers{})
}

// CacheOfMetadata keeps the metadata of what a resource lists, whatever that is.
func CacheOfMetadata(r metadata.ResourceInterface) cache.SharedIndexInformer {
	return cache.NewSharedIndexInformer(&cache.ListWatch{
		ListWithContextFunc:  func(ctx context.Context, o metav1.ListOptions) (runtime.Object, error) { return r.List(ctx, o) },
		WatchFuncWithContext: func(ctx context.Context, o metav1.ListOptions) (watch.Interface, error) { return r.Watch(ctx, o) },
	}, &metav1.PartialObjectMetadata{}, 0, cache.Indexers{})
}

// Run lets caches run until ctx ends. Nobody waits for their end: one whose API is gone may sleep
// for a while before it looks.
func Run(ctx context.Context, all ...cache.SharedIndexInformer) {
	for _, i := range all {
		go i.RunWithContext(ctx)
	}
}
