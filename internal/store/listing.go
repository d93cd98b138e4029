package store

import (
	"context"
	"encoding/json"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/core/mail"
)

// SaveListing keeps the folders of a mailbox as its server lists them.
func (s *Mailboxes) SaveListing(ctx context.Context, mailboxID string, folders []mail.Folder) error {
	data, err := json.Marshal(folders)
	if err != nil {
		return err
	}
	var kept string
	err = s.reading(ctx).Raw("SELECT folders FROM listings WHERE mailbox_id = ?", mailboxID).Scan(&kept).Error
	if err != nil || kept == string(data) {
		return explain(err)
	}
	return s.change(ctx, func(tx *gorm.DB) error {
		return exec(tx, statement{`INSERT INTO listings (mailbox_id, folders) VALUES (?, ?)
		ON CONFLICT (mailbox_id) DO UPDATE SET folders = excluded.folders`, []any{mailboxID, string(data)}})
	})
}

// Listing is what SaveListing kept last; nil where the mailbox was never listed.
func (s *Mailboxes) Listing(ctx context.Context, mailboxID string) ([]mail.Folder, error) {
	var text string
	err := s.reading(ctx).Raw("SELECT folders FROM listings WHERE mailbox_id = ?", mailboxID).Scan(&text).Error
	if err != nil || text == "" {
		return nil, explain(err)
	}
	var folders []mail.Folder
	err = json.Unmarshal([]byte(text), &folders)
	return folders, err
}
