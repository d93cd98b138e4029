package passes

// Behind does one thing at a time behind the back of its caller. Its methods are called by one goroutine; nil does
// nothing.
type Behind struct{ done chan behindDone }

type behindDone struct {
	settle func()
	err    error
}

// Do lets work run; what was begun before has to be waited for. What work returns is called by Wait, if it is not nil.
func (b *Behind) Do(work func() (settle func(), err error)) {
	b.done = make(chan behindDone, 1)
	go func(done chan<- behindDone) {
		settle, err := work()
		done <- behindDone{settle, err}
	}(b.done)
}

// Wait waits for what was begun, settles it, and returns its error. Once that is told, it is forgotten.
func (b *Behind) Wait() error {
	if b == nil || b.done == nil {
		return nil
	}
	ended := <-b.done
	b.done = nil
	if ended.settle != nil {
		ended.settle()
	}
	return ended.err
}
