package flow

import (
	"fmt"
	"runtime/debug"
)

// ErrFault is the kind of an error that no input should be able to cause. It ends the run, not the process.
type ErrFault struct {
	What  any    // what the code panicked with
	Stack string // where, for the log
}

// Error implements error.
func (e *ErrFault) Error() string {
	return fmt.Sprintf("a fault in Fiume: %v; the log says where. The rows that it read last have caused it", e.What)
}

// safely runs a part of a job, and makes a panic in it the job's error.
func safely(f func() error) (err error) {
	defer func() {
		if x := recover(); x != nil {
			err = &ErrFault{x, string(debug.Stack())}
		}
	}()
	return f()
}
