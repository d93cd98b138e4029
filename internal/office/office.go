// Package office owns the settings of the office: the rules and what they refer to. It guarantees that code which plans
// messages sees one consistent state of all of them, and that an older state never replaces a newer one.
package office

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/text/language"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/core/correspondent"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/events"
)

// Office owns the settings that messages are planned with: rules, correspondents, tables, topics and whom to trust. It
// checks and keeps changes and gives out snapshots. Its methods may be called by several goroutines at once.
type Office struct {
	*base.Base
	Topics *Topics

	settings  atomic.Pointer[Snapshot]
	loading   sync.Mutex   // one at a time makes the next snapshot
	learning  sync.Mutex   // one at a time learns topics
	compiled  sync.Map     // rules, by revision
	compiling atomic.Int64 // how many were compiled
	tesseract atomic.Bool  // it is there
	common    common
}

// New makes an office without settings; Load reads them.
func New(b *base.Base) *Office {
	o := &Office{Base: b}
	o.Topics = &Topics{o}
	o.settings.Store(&Snapshot{language: b.Language, Book: correspondent.New(nil), topics: &knowledge{}})
	return o
}

// Snapshot is the office's settings at one moment: the running rules and all that they refer to. It never changes.
// Code that plans messages takes one snapshot and keeps to it until the plan is carried out.
type Snapshot struct {
	Version int64            // grows with every change
	Rules   []*rule.Compiled // those that run, in their order
	Book    *correspondent.Book
	Trust   Trust
	Scans   Scans
	// Pictures says that the text in pictures is read here: that is wanted, and Tesseract is there.
	Pictures bool

	language  language.Tag
	passwords map[string][]string          // of archives, by the correspondent's name
	lookups   map[string]map[string]string // tables, by their folded names, with folded keys
	topics    *knowledge
}

// Settings are the office's settings as they are now.
func (o *Office) Settings() *Snapshot { return o.settings.Load() }

// Load reads all settings, at the start.
func (o *Office) Load(ctx context.Context) error {
	for _, load := range []func(ctx context.Context) error{o.LoadBook, o.loadCommon,
		func(ctx context.Context) error { return o.LoadTopics(ctx, "") }, o.loadTrust, o.loadScans, o.LoadRules} {
		if err := load(ctx); err != nil {
			return err
		}
	}
	return nil
}

// change makes the next snapshot. Changes are made one after another, and each reads the records only once its turn has
// come: an older state never replaces a newer one.
func (o *Office) change(load func(next *Snapshot) error) error {
	o.loading.Lock()
	defer o.loading.Unlock()
	next := *o.settings.Load()
	if err := load(&next); err != nil {
		return err
	}
	next.Version++
	o.settings.Store(&next)
	o.Changed(events.Rules)
	return nil
}

// For is what plans of messages in a mailbox are made with.
func (s *Snapshot) For(mailbox string, now time.Time) plan.Setting {
	return plan.Setting{Mailbox: mailbox, Now: now, Language: s.language, Book: s.Book, Lookup: s.Lookup,
		Topics: s.topics.panel, Said: s.topics.saidOf, Pictures: s.Pictures, VerifiedReplies: s.Trust.Replies,
		VerifiedBook: s.Trust.Correspondents}
}

// Lookup finds what a table has for a key; ok is false where it has nothing.
func (s *Snapshot) Lookup(table, key string) (value string, ok bool) {
	value, ok = s.lookups[Key(table)][Key(key)]
	return value, ok
}

// Passwords are those that open the archives of a sender.
func (s *Snapshot) Passwords(sender mail.Address) []string {
	if of := s.Book.Find(sender); of != nil {
		return s.passwords[of.Name]
	}
	return nil
}

// LabelsIn lists the labels that running rules wait for in a mailbox.
func (s *Snapshot) LabelsIn(mailbox string) (labels []string) {
	for _, r := range s.Rules {
		if r.Rule.Look.Looks(mailbox) {
			labels = append(labels, r.Rule.Labels()...)
		}
	}
	return labels
}
