package apiserver

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"time"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	metavalidation "k8s.io/apimachinery/pkg/apis/meta/v1/validation"
	"k8s.io/apimachinery/pkg/runtime"
)

func deleteOptions(r *http.Request) (*metav1.DeleteOptions, error) {
	d := &metav1.DeleteOptions{}
	b, err := body(r)
	if err != nil {
		return nil, err
	}
	if len(b) > 0 {
		if err := json.Unmarshal(b, d); err != nil {
			return nil, apierrors.NewBadRequest(err.Error())
		}
	}
	query := r.URL.Query()
	if g := query.Get("gracePeriodSeconds"); g != "" {
		n, err := strconv.ParseInt(g, 10, 64)
		if err != nil {
			return nil, apierrors.NewBadRequest("gracePeriodSeconds: " + err.Error())
		}
		d.GracePeriodSeconds = &n
	}
	if p := metav1.DeletionPropagation(query.Get("propagationPolicy")); p != "" {
		d.PropagationPolicy = &p
	}
	if o := query.Get("orphanDependents"); o != "" {
		v := o == "true"
		d.OrphanDependents = &v
	}
	if errs := metavalidation.ValidateDeleteOptions(d); len(errs) > 0 {
		return nil, apierrors.NewBadRequest(errs.ToAggregate().Error())
	}
	return d, nil
}

// finalizerOf is what keeps a deleted object until the garbage collector has seen
// to what it owns: its dependents are let go, or deleted before it.
func finalizerOf(d *metav1.DeleteOptions) string {
	switch {
	case d.OrphanDependents != nil && *d.OrphanDependents, d.PropagationPolicy != nil && *d.PropagationPolicy == metav1.DeletePropagationOrphan:
		return metav1.FinalizerOrphanDependents
	case d.PropagationPolicy != nil && *d.PropagationPolicy == metav1.DeletePropagationForeground:
		return metav1.FinalizerDeleteDependents
	}
	return ""
}

func (s *server) remove(ctx context.Context, r *http.Request, q *request) (runtime.Object, error) {
	d, err := deleteOptions(r)
	if err != nil {
		return nil, err
	}
	return s.removeOne(ctx, q.resource, q.ns, q.name, d, q.dry())
}

func (s *server) removeOne(ctx context.Context, res *resource, ns, name string, d *metav1.DeleteOptions, dry bool) (runtime.Object, error) {
	for range mostTries {
		o, m, rev, err := s.load(ctx, res, ns, name)
		if err != nil {
			return nil, err
		}
		if p := d.Preconditions; p != nil && (p.UID != nil && *p.UID != m.GetUID() || p.ResourceVersion != nil && *p.ResourceVersion != m.GetResourceVersion()) {
			return nil, apierrors.NewConflict(res.gr(), name, fmt.Errorf("the preconditions of the request do not hold: it has UID %s and resource version %s", m.GetUID(), m.GetResourceVersion()))
		}
		if dry || len(d.DryRun) > 0 {
			return o, nil
		}
		added := false
		if f := finalizerOf(d); f != "" && !slices.Contains(m.GetFinalizers(), f) && m.GetDeletionTimestamp() == nil {
			m.SetFinalizers(append(m.GetFinalizers(), f))
			added = true
		}
		grace := graceOf(o, d)
		switch {
		case grace > 0 || len(m.GetFinalizers()) > 0:
			if !added && m.GetDeletionTimestamp() != nil && (m.GetDeletionGracePeriodSeconds() == nil || *m.GetDeletionGracePeriodSeconds() <= grace) {
				return o, nil
			}
			at := metav1.NewTime(time.Now().Add(time.Duration(grace) * time.Second))
			m.SetDeletionTimestamp(&at)
			m.SetDeletionGracePeriodSeconds(&grace)
			m.SetGeneration(m.GetGeneration() + 1)
			err = s.put(ctx, res, o, rev)
		default:
			err = s.drop(ctx, res, ns, name, rev)
		}
		if err == nil {
			s.released(ctx, res, o)
			return o, nil
		}
		if !apierrors.IsConflict(err) || ctx.Err() != nil {
			return nil, err
		}
	}
	return nil, conflict(res, name)
}

func (s *server) removeAll(ctx context.Context, r *http.Request, q *request) (runtime.Object, error) {
	d, err := deleteOptions(r)
	if err != nil {
		return nil, err
	}
	kvs, _, err := s.rangeOf(ctx, q.resource.prefix(q.ns))
	if err != nil {
		return nil, err
	}
	for _, kv := range kvs {
		o, m, err := s.seen(q.resource, kv).object()
		if err != nil || !matches(q.labels, q.fields, o, m) {
			continue
		}
		if _, err := s.removeOne(ctx, q.resource, m.GetNamespace(), m.GetName(), d, q.dry()); err != nil && !apierrors.IsNotFound(err) {
			return nil, err
		}
	}
	return success(), nil
}
