package problem

import (
	"fmt"
	"runtime/debug"
)

// Panic is a fault of the program that was caught where it would have ended the process.
type Panic struct {
	Value any
	Stack []byte
}

func (p *Panic) Error() string { return fmt.Sprintf("%v\n%s", p.Value, p.Stack) }

// Recover turns a panic of the function that defers it into its error. Every goroutine that
// touches what a server sent defers it: whatever comes in ends a run, not the process.
func Recover(err *error) {
	if value := recover(); value != nil {
		*err = Wrap(&Panic{value, debug.Stack()}, Failed,
			fmt.Sprintf("The service met something that it did not expect: %v.", value),
			"What was committed stays, and other feeds go on. Please report this with the service's log, which "+
				"holds the details.")
	}
}

// Guarded is work that ends with an error where it would panic.
func Guarded(work func() error) func() error {
	return func() (err error) {
		defer Recover(&err)
		return work()
	}
}
