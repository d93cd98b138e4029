package reading

import (
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/fault"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// Understand makes a row of the records from a message's facts. A message on which that panics is a fault.PanicError.
func Understand(mailboxID, folder string, validity uint32, f *source.Facts, now time.Time) (row *store.Message,
	m *mail.Message, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = &fault.PanicError{Cause: p}
		}
	}()
	return store.NewMessage(mailboxID, folder, validity, f, now)
}
