package store

// The records are grouped by aggregate. Each group shares the store's connections, so that a change may touch several
// groups in one transaction.
type (
	// Settings are the settings of the service and what is known about its clock.
	Settings struct{ *Store }
	// People are the people who sign in, their keys and what they did.
	People struct{ *Store }
	// Mailboxes are the mailboxes, their folders and secrets.
	Mailboxes struct{ *Store }
	// Cabinets are the cabinets and their secrets.
	Cabinets struct{ *Store }
	// Rules are the rules, their revisions and start marks.
	Rules struct{ *Store }
	// Book holds the correspondents and the tables.
	Book struct{ *Store }
	// Topics are the topics and their examples.
	Topics struct{ *Store }
	// Messages are the facts of messages, and how far folders were looked through.
	Messages struct{ *Store }
	// Retries are the messages that could not be read and are tried again.
	Retries struct{ *Store }
	// Journal holds the items of messages and what becomes of them.
	Journal struct{ *Store }
	// Passes are the passes, and what people did by hand.
	Passes struct{ *Store }
	// Undoing are what was taken back.
	Undoing struct{ *Store }
	// FollowUps are the follow-ups of messages, and what is sent.
	FollowUps struct{ *Store }
	// Tray holds what waits for a person.
	Tray struct{ *Store }
	// Alarms are the people who are notified, alarms and outages.
	Alarms struct{ *Store }
	// Register holds the register of all filings.
	Register struct{ *Store }
	// RegisterFiles are the registers that are kept as files.
	RegisterFiles struct{ *Store }
	// Verifications are which files were found unchanged.
	Verifications struct{ *Store }
	// Restored are what is known of the backup from which the records came.
	Restored struct{ *Store }
	// Erasure are what is known about a person, to erase it.
	Erasure struct{ *Store }
	// Replication is the copy elsewhere that follows the records.
	Replication struct{ *Store }
)

// group gives each group of records its store.
func (s *Store) group() {
	s.Settings = &Settings{s}
	s.People = &People{s}
	s.Passkeys = &Passkeys{s}
	s.Trail = &Trail{s}
	s.Machines = &Machines{s}
	s.Mailboxes = &Mailboxes{s}
	s.Cabinets = &Cabinets{s}
	s.Rules = &Rules{s}
	s.Book = &Book{s}
	s.Topics = &Topics{s}
	s.Messages = &Messages{s}
	s.Retries = &Retries{s}
	s.Journal = &Journal{s}
	s.Passes = &Passes{s}
	s.Undoing = &Undoing{s}
	s.FollowUps = &FollowUps{s}
	s.Tray = &Tray{s}
	s.Alarms = &Alarms{s}
	s.Register = &Register{s}
	s.RegisterFiles = &RegisterFiles{s}
	s.Verifications = &Verifications{s}
	s.Restored = &Restored{s}
	s.Erasure = &Erasure{s}
	s.Replication = &Replication{s}
}
