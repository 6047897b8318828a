package check

import "sync"

// crew is work side by side. A panic in a part of it is a defect of the whole
// program, which is told in one place: Wait hands it on to the caller.
type crew struct {
	sync.WaitGroup
	mu     sync.Mutex
	defect any
}

// do runs a part and keeps its panic for Wait.
func (c *crew) do(part func()) {
	defer func() {
		if defect := recover(); defect != nil {
			c.mu.Lock()
			defer c.mu.Unlock()
			c.defect = defect
		}
	}()
	part()
}

// Wait waits for all parts.
func (c *crew) Wait() {
	c.WaitGroup.Wait()
	if c.defect != nil {
		panic(c.defect)
	}
}
