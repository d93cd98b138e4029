package disk

import "sync"

// Flushes lets those who flush the same folder at the same moment share one flush. Each gets the result of a flush that
// began after it had asked. The zero value is ready; its methods may be called by several goroutines at once.
type Flushes struct {
	mutex   sync.Mutex
	running map[string]*flush
	next    map[string]*flush // which begins once the running one has ended
}

type flush struct {
	done chan struct{}
	err  error
}

// Do flushes a folder by calling do, or waits until somebody else has done it.
func (f *Flushes) Do(folder string, do func() error) error {
	f.mutex.Lock()
	if f.running == nil {
		f.running, f.next = map[string]*flush{}, map[string]*flush{}
	}
	before := f.running[folder]
	if before == nil {
		mine := &flush{done: make(chan struct{})}
		f.running[folder] = mine
		f.mutex.Unlock()
		return f.run(folder, mine, do)
	}
	if next := f.next[folder]; next != nil {
		f.mutex.Unlock()
		<-next.done
		return next.err
	}
	mine := &flush{done: make(chan struct{})}
	f.next[folder] = mine
	f.mutex.Unlock()
	<-before.done
	f.mutex.Lock()
	delete(f.next, folder)
	f.running[folder] = mine
	f.mutex.Unlock()
	return f.run(folder, mine, do)
}

func (f *Flushes) run(folder string, mine *flush, do func() error) error {
	mine.err = do()
	f.mutex.Lock()
	if f.running[folder] == mine {
		delete(f.running, folder)
	}
	f.mutex.Unlock()
	close(mine.done)
	return mine.err
}
