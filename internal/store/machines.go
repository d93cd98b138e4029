package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// Machine is another machine of the office, with an installation of its own.
type Machine struct {
	ID        string `gorm:"primaryKey"`
	Name      string // what it is called here, in addresses and lists
	Address   string // at which it answers, such as https://north.brackwater.example
	Authority string // certificates that are trusted for both, beside the system's, PEM
	Place     string // of its replica
	Username  string // for that place
	Region    string
	HostKey   string
	Secret    []byte // sealed MachineSecrets
	// Installation names the records of the machine, whose replica is read.
	Installation string
	Revision     int
	MadeAt       time.Time
}

// MachineSecrets let a machine be asked, and its records be read.
type MachineSecrets struct {
	Token      string `json:"token"`      // of the scope ScopeMachine, made there
	Passphrase string `json:"passphrase"` // of its replica
	Secret     string `json:"secret"`     // for the place of its replica
}

// route is what the secrets are given for.
func (m *Machine) route() []hop {
	return []hop{{"address", m.Address}, {"authority", m.Authority}, {"place of the replica", m.Place},
		{"user name", m.Username}}
}

// OtherRoute lists in words in what the ways to two machines differ; none where the secrets of one are good for the
// other.
func (m *Machine) OtherRoute(than *Machine) []string { return differ(than.route(), m.route()) }

// Machines are the other machines of the office.
type Machines struct{ *Store }

// All lists them by name.
func (s *Machines) All(ctx context.Context) ([]Machine, error) {
	return list[Machine](s.reading(ctx).Order("name"))
}

// ByID finds one.
func (s *Machines) ByID(ctx context.Context, id string) (Machine, error) {
	return first[Machine](s.reading(ctx).Where("id = ?", id))
}

// Secrets opens the secrets of a machine, for reaching it only. ErrRoute where they were given for another way to it.
func (s *Machines) Secrets(m *Machine) (secrets MachineSecrets, err error) {
	text, err := s.unsealFor(m.Secret, m.owner(), m.route())
	if err == nil {
		err = json.Unmarshal([]byte(text), &secrets)
	}
	return secrets, err
}

func (m *Machine) owner() string { return "machine " + m.ID }

// Seal seals the secrets of a machine for the way to it that it has now; they are kept with it.
func (s *Machines) Seal(m *Machine, secrets MachineSecrets) error {
	text, err := json.Marshal(secrets)
	if err == nil {
		m.Secret, err = s.sealFor(string(text), m.owner(), m.route())
	}
	return err
}

// A KnownError says that there is a machine with the same records already.
type KnownError struct{ As string }

func (e *KnownError) Error() string {
	return fmt.Sprintf("that machine is here already, as “%s”", e.As)
}

// unknown is nil where no other machine has the records of this one; a *KnownError otherwise.
func (m *Machine) unknown(tx *gorm.DB) error {
	same, err := list[Machine](tx.Where("installation = ? AND id <> ?", m.Installation, m.ID))
	if err == nil && len(same) > 0 {
		err = &KnownError{same[0].Name}
	}
	return err
}

// Add keeps a machine. gorm.ErrDuplicatedKey where there is one of this name, a *KnownError where there is one with the
// same records.
func (s *Machines) Add(ctx context.Context, m *Machine, actor string) error {
	m.Revision = 1
	return s.change(ctx, func(tx *gorm.DB) error {
		return inOrder(func() error { return m.unknown(tx) },
			func() error { return tx.Create(m).Error },
			func() error { return noteRows(tx, actor, "add machine", m.Name, nil, m) })
	})
}

// Change keeps how a machine is reached. revision is the one that was changed, 0 for whatever is there. The errors are
// those of Add, and ErrChanged.
func (s *Machines) Change(ctx context.Context, m *Machine, revision int, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		was, err := first[Machine](tx.Where("id = ?", m.ID))
		if err != nil {
			return err
		}
		if revision > 0 && was.Revision != revision {
			return ErrChanged
		}
		m.Revision, m.MadeAt = was.Revision+1, was.MadeAt
		return inOrder(func() error { return m.unknown(tx) },
			func() error { return tx.Save(m).Error },
			func() error { return noteRows(tx, actor, "change machine", m.Name, was, m) })
	})
}

// Remove forgets a machine. What it filed stays in its own register.
func (s *Machines) Remove(ctx context.Context, id, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		was, err := first[Machine](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		if err := tx.Delete(&was).Error; err != nil {
			return err
		}
		return noteRows(tx, actor, "remove machine", was.Name, was, nil)
	})
}
