// Lifecycle writes the table of the versions of the API that minors of Kubernetes cease to
// serve: the marks that the published API types carry themselves. It is run by hand when the
// module of the API types moves:
//
//	go run ./tools/lifecycle > internal/core/versions/lifecycle.txt
package main

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/client-go/kubernetes/scheme"
)

// oldest is the first minor of which the table tells: what went before that no shipped
// version can meet.
const oldest = 35

type removed interface{ APILifecycleRemoved() (major, minor int) }

type deprecated interface{ APILifecycleDeprecated() (major, minor int) }

type replaced interface {
	APILifecycleReplacement() schema.GroupVersionKind
}

func main() { fmt.Print(table()) }

// table is a line for each kind of a version that goes: GROUP VERSION KIND DEPRECATED REMOVED
// INSTEAD.
func table() string {
	var lines []string
	for gvk, t := range scheme.Scheme.AllKnownTypes() {
		if strings.HasSuffix(gvk.Kind, "List") || strings.HasSuffix(gvk.Version, "internal") {
			continue
		}
		o := reflect.New(t).Interface()
		r, ok := o.(removed)
		if !ok {
			continue
		}
		if _, gone := r.APILifecycleRemoved(); gone >= oldest {
			// Marks of a kind that is only an option of a request stand in every group.
			if strings.HasSuffix(gvk.Kind, "Options") || gvk.Kind == "WatchEvent" {
				continue
			}
			since, instead := 0, "-"
			if d, ok := o.(deprecated); ok {
				_, since = d.APILifecycleDeprecated()
			}
			if p, ok := o.(replaced); ok {
				instead = p.APILifecycleReplacement().GroupVersion().String()
			}
			lines = append(lines, fmt.Sprintf("%s %s %s %d %d %s", gvk.Group, gvk.Version, gvk.Kind, since, gone, instead))
		}
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n") + "\n"
}
