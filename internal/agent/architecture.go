package agent

import "runtime"

// architecture is that of the machine: the agent runs on it.
const architecture = runtime.GOARCH
