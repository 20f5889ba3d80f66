// Package kubeapi has typed clients of the API's groups that are used here, and caches of what
// they list. They speak through the published REST client. The published set of clients is for
// every group of every version that there is: it was a third of what building the program took.
package kubeapi
