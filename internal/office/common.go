package office

import (
	"context"
	"sync"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/topic"
)

const (
	mostSeen  = 20_000 // messages that are remembered so that each counts once
	saveEvery = 200    // messages after which the counts are saved
)

// common counts what the messages of the office have in common, whatever they are about.
type common struct {
	mutex     sync.Mutex
	counts    topic.Common
	seen      map[[32]byte]bool
	unsaved   int
	weighting *topic.Weighting // with which the topics are learned now; nil until enough messages were seen
}

// Notice counts a message whose text was read, once. After twice as many messages as before, the topics are learned
// again, because common features weigh less then.
func (o *Office) Notice(ctx context.Context, m *mail.Message) {
	if k := o.Settings().topics; len(k.topics) == 0 || m.Text == nil {
		return
	}
	save, learn := o.common.notice(m)
	if !save && !learn {
		return
	}
	if save {
		data, err := o.common.counts.MarshalBinary()
		if err == nil {
			err = o.Store.Topics.KeepCommon(ctx, data)
		}
		if err != nil {
			o.common.again()
			o.Log.Warn("what messages have in common is not saved; the next message tries again", "error", err)
		}
	}
	if learn { // it needs no saved counts
		if err := o.LoadTopics(ctx, ""); err != nil {
			o.Log.Warn("the topics are not learned again yet", "error", err)
		}
	}
}

// again lets the next message save the counts.
func (c *common) again() {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.unsaved = saveEvery
}

func (c *common) notice(m *mail.Message) (save, learn bool) {
	key := m.Fingerprint()
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.seen[key] {
		return false, false
	}
	is := topic.Of(m)
	features := topic.Read(&is)
	if c.seen == nil || len(c.seen) >= mostSeen {
		c.seen = map[[32]byte]bool{}
	}
	c.seen[key] = true
	c.counts.Notice(&features)
	before := 0
	if c.weighting != nil {
		before = c.weighting.Messages
	}
	if n := c.counts.Messages(); n >= topic.LeastNoticed && (n >= 2*before || n < before) {
		c.weighting, learn = c.counts.Weighting(), true
	}
	if c.unsaved++; c.unsaved >= saveEvery || learn {
		c.unsaved, save = 0, true
	}
	return save, learn
}

// loadCommon reads the counts at the start.
func (o *Office) loadCommon(ctx context.Context) error {
	data, err := o.Store.Topics.Common(ctx)
	if err != nil || data == nil {
		return err
	}
	c := &o.common
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if err := c.counts.UnmarshalBinary(data); err != nil { // they are counted again
		o.Log.Warn("what messages have in common cannot be read", "error", err)
		return nil
	}
	c.weighting = c.counts.Weighting()
	return nil
}

func (c *common) now() *topic.Weighting {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	return c.weighting
}
