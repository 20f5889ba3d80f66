package topology

import "time"

// Facts are properties that cannot change once the cluster lives.
type Facts struct {
	Endpoint string `json:"endpoint"` // name
	Pods     string `json:"pods"`
	Services string `json:"services"`
	Domain   string `json:"domain"`
	// Of clusters that an older Verbund founded, what follows is not recorded.
	PerNode int       `json:"perNode,omitempty"` // pod addresses of each node
	Answers string    `json:"answers,omitempty"` // what answers at the endpoint
	Members string    `json:"members,omitempty"` // where the datastore's members are
	Control string    `json:"control,omitempty"` // whether control-plane machines are nodes
	CopyOf  string    `json:"copyOf,omitempty"`  // the cluster of which it is a copy
	Founded time.Time `json:"founded"`
}
