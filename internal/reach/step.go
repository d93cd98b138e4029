package reach

import "fmt"

// Step is a stage of reaching a server, in the order in which they happen.
type Step string

// The steps.
const (
	NameLookup Step = "name lookup"
	Connection Step = "connection"
	Encrypting Step = "encryption"
	SignIn     Step = "sign-in"
	Folders    Step = "folders"
	Push       Step = "push"
)

// Error is a failure to reach a server, with what to do about it.
type Error struct {
	Step    Step
	Problem string // a sentence without its full stop
	Advice  string // what to do
	Lasting bool   // trying again without a change will not help
	Err     error
}

func (e *Error) Error() string {
	if e.Advice == "" {
		return fmt.Sprintf("%s: %s", e.Step, e.Problem)
	}
	return fmt.Sprintf("%s: %s. %s", e.Step, e.Problem, e.Advice)
}

func (e *Error) Unwrap() error { return e.Err }
