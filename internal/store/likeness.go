package store

import (
	"bytes"
	"database/sql/driver"

	jsonv2 "github.com/go-json-experiment/json"
	"gorm.io/gorm"
	sqlite3 "modernc.org/sqlite"

	"inktray.example/inktray/internal/core/mail"
)

// inexact is the likeness of a message whose server tells the sizes of decoded contents; nil of all others.
func (m *Message) inexact() []byte {
	if bytes.Equal(m.Fingerprint, m.Likeness) {
		return m.Likeness
	}
	return nil
}

// sameAs asks for the rows of the same message: those with its fingerprint, and those with its likeness where the sizes
// of one of the two are of decoded contents.
func sameAs(db *gorm.DB, m *Message) *gorm.DB {
	return db.Where("id IN ("+sameMessages+")", m.same()...)
}

// sameMessages lists the rows of the same message. An index finds each part; with an OR, SQLite looks through all
// messages of the mailbox.
const sameMessages = "SELECT id FROM messages WHERE fingerprint = ? UNION ALL SELECT id FROM messages WHERE " +
	"fingerprint = ? UNION ALL SELECT id FROM messages WHERE likeness = ?"

// same are the arguments of sameMessages.
func (m *Message) same() []any { return []any{m.Fingerprint, m.Likeness, m.inexact()} }

// Is says whether a message is the same as this one, wherever it lies and by whichever protocol it was read.
func (m *Message) Is(other *mail.Message) bool {
	fingerprint, likeness := other.Fingerprint(), other.Likeness()
	return bytes.Equal(fingerprint[:], m.Fingerprint) || bytes.Equal(likeness[:], m.Fingerprint) ||
		fingerprint == likeness && bytes.Equal(likeness[:], m.Likeness)
}

// likenessIn lets a migration give older rows their likeness: SQL calls likeness(header, structure).
func likenessIn(d *sqlite3.Driver) {
	d.MustRegisterDeterministicScalarFunction("likeness", 2,
		func(_ *sqlite3.FunctionContext, args []driver.Value) (driver.Value, error) {
			header, _ := args[0].([]byte)
			var structure mail.Structure
			var err error
			switch text := args[1].(type) {
			case []byte:
				err = jsonv2.Unmarshal(text, &structure)
			case string:
				err = jsonv2.Unmarshal([]byte(text), &structure)
			}
			if err != nil || len(header) == 0 { // what was erased, and what cannot be read, has none
				return nil, nil
			}
			fields, _ := mail.ParseHeader(header)
			sum := mail.New(fields, &structure).Likeness()
			return sum[:], nil
		})
}
