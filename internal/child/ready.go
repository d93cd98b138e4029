package child

import (
	"sync"
	"time"
)

// Starting a process takes longer than reading most files. While one message follows another, the process for the next
// is started beside the reading of this one. It has read nothing, and nothing is told to it, until a message takes it.
const (
	waitsReady = 3 * time.Second // then it ends
	soonAfter  = 2 * time.Second // after a message was read, another one may come at any moment
)

// spare is the process that is ready.
var spare struct {
	mutex    sync.Mutex
	waiting  *helper
	starting chan struct{} // is closed once the process that is being started is ready; nil while none is
	taken    time.Time     // when a message last took a process
}

// readyHelper gives the process that is ready, or a new one.
func readyHelper() (*helper, error) {
	spare.mutex.Lock()
	h := spare.waiting
	spare.waiting = nil
	if time.Since(spare.taken) < soonAfter && spare.starting == nil {
		spare.starting = make(chan struct{})
		go makeSpare(spare.starting)
	}
	spare.taken = time.Now()
	spare.mutex.Unlock()
	if h != nil {
		h.timer.Stop()
		return h, nil
	}
	return newHelper("", false)
}

// Rest ends the process that is ready. It is called when nothing more is to be read.
func Rest() {
	spare.mutex.Lock()
	for spare.starting != nil {
		starting := spare.starting
		spare.mutex.Unlock()
		<-starting
		spare.mutex.Lock()
	}
	h := spare.waiting
	spare.waiting, spare.taken = nil, time.Time{}
	spare.mutex.Unlock()
	if h != nil {
		h.timer.Stop()
		h.kill()
	}
}

// makeSpare starts the process for the next message. Where none can be started, that message is told.
func makeSpare(ready chan<- struct{}) {
	h, err := newHelper("", false)
	spare.mutex.Lock()
	defer spare.mutex.Unlock()
	spare.starting = nil
	defer close(ready)
	if err != nil {
		return
	}
	h.waits = true
	spare.waiting = h
	h.timer = time.AfterFunc(waitsReady, func() {
		spare.mutex.Lock()
		mine := spare.waiting == h
		if mine {
			spare.waiting = nil
		}
		spare.mutex.Unlock()
		if mine {
			h.kill()
		}
	})
}
