package kubeapi

import (
	admissionregistrationv1 "k8s.io/api/admissionregistration/v1"
	appsv1 "k8s.io/api/apps/v1"
	authenticationv1 "k8s.io/api/authentication/v1"
	authorizationv1 "k8s.io/api/authorization/v1"
	autoscalingv1 "k8s.io/api/autoscaling/v1"
	batchv1 "k8s.io/api/batch/v1"
	certificatesv1 "k8s.io/api/certificates/v1"
	coordinationv1 "k8s.io/api/coordination/v1"
	corev1 "k8s.io/api/core/v1"
	discoveryv1 "k8s.io/api/discovery/v1"
	eventsv1 "k8s.io/api/events/v1"
	policyv1 "k8s.io/api/policy/v1"
	rbacv1 "k8s.io/api/rbac/v1"
	storagev1 "k8s.io/api/storage/v1"
	storagev1beta1 "k8s.io/api/storage/v1beta1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/runtime/serializer"
	utilruntime "k8s.io/apimachinery/pkg/util/runtime"
)

// groups are those whose objects are known here.
var groups = runtime.SchemeBuilder{
	admissionregistrationv1.AddToScheme, appsv1.AddToScheme, authenticationv1.AddToScheme, authorizationv1.AddToScheme, autoscalingv1.AddToScheme, batchv1.AddToScheme, certificatesv1.AddToScheme,
	coordinationv1.AddToScheme, corev1.AddToScheme, discoveryv1.AddToScheme, eventsv1.AddToScheme, policyv1.AddToScheme, rbacv1.AddToScheme, storagev1.AddToScheme, storagev1beta1.AddToScheme,
}

var (
	// Scheme knows the objects of the groups that are used here.
	Scheme = runtime.NewScheme()
	// Codecs read and write them.
	Codecs = serializer.NewCodecFactory(Scheme)

	parameters = runtime.NewParameterCodec(Scheme)
)

func init() {
	metav1.AddToGroupVersion(Scheme, schema.GroupVersion{Version: "v1"})
	utilruntime.Must(groups.AddToScheme(Scheme))
}
