package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"
)

// The settings of backups, and what came of them.
const (
	BackupSetting = "backup"
	backupDone    = "backup done"
	backupFailed  = "backup failed"
	backupOwner   = "backup" // of the passphrase
)

// The places where backups are kept.
const (
	BackupInFolder  = "folder"
	BackupInCabinet = "cabinet"
)

// BackupPlan says when and where backups are made. The zero BackupPlan makes none.
type BackupPlan struct {
	Place      string   `json:"place"`       // folder or cabinet; "" for none
	Folder     string   `json:"folder"`      // on this machine
	CabinetID  string   `json:"cabinet"`     //
	At         string   `json:"at"`          // time of the day, as 02:30, in the office's zone
	EveryDays  int      `json:"every_days"`  //
	Keep       int      `json:"keep"`        // how many are kept; older ones are removed
	PublicKeys []string `json:"public_keys"` // for whom it is sealed, where there is no passphrase
	Sealed     []byte   `json:"sealed"`      // the passphrase
}

// BackupDone is the last backup that was made and verified.
type BackupDone struct {
	At      time.Time `json:"at"`
	Place   string    `json:"place"` // in words
	Name    string    `json:"name"`
	Size    int64     `json:"size"` // of the file, in octets
	Files   int       `json:"files"`
	Seconds float64   `json:"seconds"` // that making and verifying took
}

// BackupFailed is why no backup came of the last try; its time is zero where one did.
type BackupFailed struct {
	At      time.Time `json:"at"`
	Problem string    `json:"problem"`
}

// BackupPlan reads when and where backups are made, and the passphrase with which they are sealed.
func (s *Settings) BackupPlan(ctx context.Context) (p BackupPlan, passphrase string, err error) {
	text, err := s.Get(ctx, BackupSetting)
	if err != nil || text == "" {
		return p, "", err
	}
	if err = json.Unmarshal([]byte(text), &p); err == nil && len(p.Sealed) > 0 {
		passphrase, err = s.unseal(p.Sealed, backupOwner)
	}
	return p, passphrase, err
}

// PlanBackups keeps when and where backups are made. A nil passphrase keeps the one that there is; "" forgets it.
func (s *Settings) PlanBackups(ctx context.Context, p BackupPlan, passphrase *string, revision int,
	actor string) error {
	old, _, err := s.BackupPlan(ctx)
	if err != nil {
		return err
	}
	if p.Sealed = nil; passphrase == nil {
		p.Sealed = old.Sealed
	} else if *passphrase != "" {
		if p.Sealed, err = s.seal(*passphrase, backupOwner); err != nil {
			return err
		}
	}
	return s.setJSON(ctx, BackupSetting, p, revision, actor)
}

// Backups reads the last backup, and why none came of the last try. Each is nil where there is none.
func (s *Settings) Backups(ctx context.Context) (done *BackupDone, failed *BackupFailed, err error) {
	text, err := s.Get(ctx, backupDone)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &done)
	}
	if err != nil {
		return nil, nil, err
	}
	text, err = s.Get(ctx, backupFailed)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &failed)
	}
	return done, failed, err
}

// BackedUp keeps what came of a backup: done, or why there is none.
func (s *Settings) BackedUp(ctx context.Context, done *BackupDone, failed *BackupFailed) error {
	keep := func(key string, v any) error {
		text, err := json.Marshal(v)
		if err != nil {
			return err
		}
		return s.Set(ctx, key, string(text))
	}
	switch {
	case done != nil:
		return inOrder(func() error { return keep(backupDone, done) },
			func() error { return s.Set(ctx, backupFailed, "") })
	case failed != nil:
		return keep(backupFailed, failed)
	}
	return errors.New("nothing came of it")
}
