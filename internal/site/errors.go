package site

import "errors"

// ErrNotRunning says that the site's process does not run: nothing listens for
// it. That it did not answer in time, or broke off, is another error, which says
// nothing about whether it runs.
var ErrNotRunning = errors.New("the site's process is not running")

// ErrOlder is a site whose process is of a version that does not know what it is asked.
var ErrOlder = errors.New("its process is of an older version, which cannot say whether somebody uses it")

// Refused is what a site will not do.
type Refused struct {
	What, Todo string
	Code       string // of refusals that a program can do something about
	Status     int    // of its answer, as in HTTP
}

func (r *Refused) Error() string { return r.What + "; " + r.Todo }

// AddressTaken is the code of a refusal: somebody else has the lease that was
// asked for. Another address may be free.
const AddressTaken = "address-taken"

// InUse is the code of a refusal: the site has machines of others, and stays.
const InUse = "in-use"
