package apiserver

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/runtime/schema"
)

// The headers of impersonation (Kubernetes, "User impersonation").
const (
	asUser  = "Impersonate-User"
	asGroup = "Impersonate-Group"
	asUID   = "Impersonate-Uid"
	asExtra = "Impersonate-Extra-"
)

// impersonate says as whom a request is to be carried out. Whoever asks has to be
// allowed each part of it by itself; from then on only the one counts who is
// impersonated.
func (s *server) impersonate(ctx context.Context, u user, h http.Header) (user, error) {
	name, groups, uid := h.Get(asUser), h.Values(asGroup), h.Get(asUID)
	extra := map[string][]string{}
	for k, vs := range h {
		if rest, ok := strings.CutPrefix(k, asExtra); ok {
			key, err := url.PathUnescape(strings.ToLower(rest))
			if err != nil {
				return user{}, apierrors.NewBadRequest(fmt.Sprintf("%s: %v", k, err))
			}
			extra[key] = vs
		}
	}
	if name == "" {
		if len(groups)+len(extra) > 0 || uid != "" {
			return user{}, apierrors.NewBadRequest("requested groups, uid or extra without impersonating a user")
		}
		return u, nil
	}
	may := func(group, plural, sub, ns, name string) error {
		if s.allowed(ctx, u, access{"impersonate", group, plural, sub, ns, name, nil}) {
			return nil
		}
		what := plural
		if sub != "" {
			what += "/" + sub
		}
		return apierrors.NewForbidden(schema.GroupResource{Group: group, Resource: what}, name, fmt.Errorf("user %q cannot impersonate this", u.name))
	}
	as := user{name: name, groups: slices.Clone(groups), uid: uid, extra: extra}
	if account := strings.Split(name, ":"); len(account) == 4 && strings.HasPrefix(name, "system:serviceaccount:") {
		if err := may("", "serviceaccounts", "", account[2], account[3]); err != nil {
			return user{}, err
		}
		if len(groups) == 0 {
			as.groups = []string{"system:serviceaccounts", "system:serviceaccounts:" + account[2]}
		}
	} else if err := may("", "users", "", "", name); err != nil {
		return user{}, err
	}
	for _, g := range groups {
		if err := may("", "groups", "", "", g); err != nil {
			return user{}, err
		}
	}
	if uid != "" {
		if err := may("authentication.k8s.io", "uids", "", "", uid); err != nil {
			return user{}, err
		}
	}
	for k, vs := range extra {
		for _, v := range vs {
			if err := may("authentication.k8s.io", "userextras", k, "", v); err != nil {
				return user{}, err
			}
		}
	}
	if all := map[bool]string{true: "system:unauthenticated", false: "system:authenticated"}[name == anonymous]; !as.in(all) {
		as.groups = append(as.groups, all)
	}
	return as, nil
}
