package store

import (
	"slices"
	"time"

	"gorm.io/gorm"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/value"
)

// Role says what a person may do.
type Role string

// The roles, each with all that the next one may do.
const (
	Administrator Role = "administrator" // sets everything up
	Clerk         Role = "clerk"         // works the tray, rehearses, files old mail
	Reader        Role = "reader"        // sees what was filed
)

// May says whether a role has at least the rights of another.
func (r Role) May(needed Role) bool {
	order := map[Role]int{Reader: 1, Clerk: 2, Administrator: 3}
	return order[r] > 0 && order[r] >= order[needed]
}

// Viewer is who asks. The zero Viewer sees nothing.
type Viewer struct {
	ID   string
	Name string
	Role Role
	Only []string // mailboxes by id; nil for all
	All  bool

	Cabinets    []string // by id; nil for all
	AllCabinets bool
	Scope       Scope // what the token is good for
}

// MaySee says whether a viewer may see what belongs to a mailbox; "" belongs to none.
func (v Viewer) MaySee(mailboxID string) bool {
	return v.All || mailboxID == "" || slices.Contains(v.Only, mailboxID)
}

// MaySeeAll says whether a viewer may see what belongs to any of several mailboxes; nil means all.
func (v Viewer) MaySeeAll(mailboxes []string) bool {
	return v.All || mailboxes != nil && !slices.ContainsFunc(mailboxes, func(id string) bool { return !v.MaySee(id) })
}

// System is the service itself.
var System = Viewer{Name: "Ink Tray", Role: Administrator, All: true, AllCabinets: true}

// Person is somebody who signs in.
type Person struct {
	ID       string `gorm:"primaryKey"`
	Name     string
	Password string // Argon2id, PHC string format
	Role     Role
	MadeAt   time.Time

	Mail         string // where links are sent; "" for nowhere
	LockedAt     *time.Time
	SignedInAt   *time.Time
	AllMailboxes bool // else those that are granted to her or to her groups
	AllCabinets  bool
	Revision     int

	TOTP     []byte     `gorm:"column:totp"`      // the secret of her codes, sealed; empty where she has none
	TOTPStep int64      `gorm:"column:totp_step"` // of the last code that was used
	TOTPAt   *time.Time `gorm:"column:totp_at"`
	Passkeys int        `gorm:"<-:false"` // how many she has; the records count them
	Subject  string     // issuer and subject at the office's sign-in; "" for nobody there
}

// BeforeCreate fills in what the records do not leave open.
func (p *Person) BeforeCreate(*gorm.DB) error {
	if p.TOTP == nil {
		p.TOTP = []byte{}
	}
	return nil
}

// Scope is what a key is good for; "" is all that its person may do.
type Scope string

// The scopes of tokens.
const (
	ScopeRead     Scope = "read"     // what a reader may do
	ScopeRegister Scope = "register" // to read the register
	ScopeMetrics  Scope = "metrics"  // the metrics alone
	ScopeMachine  Scope = "machine"  // another machine of the office, which asks for any person of the same name
	ScopeEnrol    Scope = "enrol"    // to set up a second factor, which is asked for: of sessions only
)

// Key lets somebody in.
type Key struct {
	Hash      []byte `gorm:"primaryKey"`
	Kind      string // "session" or "token"
	ID        string
	Label     string // a token's name
	PersonID  string
	MadeAt    time.Time
	ExpiresAt time.Time
	Scope     Scope
	UsedAt    *time.Time // to within some minutes
	Place     string     // the address from where it was made or used last
	Program   string     // as the browser or program names itself
}

// Mailbox is a place where messages arrive and that is watched.
type Mailbox struct {
	ID              string `gorm:"primaryKey"`
	Name            string
	Kind            string // "imap", "pop3", "jmap", "drop", "maildir" or "files"
	Host            string
	Port            int
	Encryption      string
	Username        string
	Secret          []byte // sealed
	IntervalSeconds int
	Path            string      // of a Maildir: its folder on this machine
	Address         string      // of a drop address: the address; "" where it is closed
	Particulars     Particulars `gorm:"serializer:json"`
	Revision        int
	MadeAt          time.Time
}

// Particulars are what only some kinds of mailboxes have.
type Particulars struct {
	Authority string   `json:"authority,omitempty"`  // certificates that are trusted beside the system's, PEM
	Pinned    string   `json:"pinned,omitempty"`     // SHA-256 of the server's certificate, hexadecimal
	Proxy     string   `json:"proxy,omitempty"`      // socks5://host:port or http://host:port
	Consent   *Consent `json:"consent,omitempty"`    // sign-in by consent (OAuth 2.0) instead of a password
	LeaveDays int      `json:"leave_days,omitempty"` // POP3: taken off the server after so many days; 0 leaves it there
	Word      string   `json:"word,omitempty"`       // of a drop address: what it begins with
	// addresses and domains that may send to a drop address; none for anyone
	Senders []string `json:"senders,omitempty"`
}

// Consent says where a person gives consent, and to what (RFC 6749, RFC 8414).
type Consent struct {
	Issuer    string   `json:"issuer,omitempty"` // its endpoints are looked up; else they are given
	ClientID  string   `json:"client_id"`
	Authorize string   `json:"authorize,omitempty"`
	Token     string   `json:"token,omitempty"`
	Device    string   `json:"device,omitempty"`
	Scopes    []string `json:"scopes,omitempty"`
}

// Cabinet is where files are kept.
type Cabinet struct {
	ID          string `gorm:"primaryKey"`
	Name        string
	Kind        string // "local", "webdav", "sftp" or "s3"
	Folder      string // whole path on this machine, or an address such as https://files.brackwater.example/harbour
	Mode        string // of files, in octal; "" leaves it to the system
	Owner       string // user:group; "" leaves it to the system
	Address     string // how colleagues reach it, a register.Base
	Identity    string
	Username    string
	Secret      []byte             // sealed
	Particulars CabinetParticulars `gorm:"serializer:json"`
	Revision    int
	MadeAt      time.Time
}

// CabinetParticulars are what only cabinets on servers have.
type CabinetParticulars struct {
	Authority string `json:"authority,omitempty"` // certificates that are trusted beside the system's, PEM
	Pinned    string `json:"pinned,omitempty"`    // SHA-256 of the server's certificate, hexadecimal
	Proxy     string `json:"proxy,omitempty"`     // socks5://host:port or http://host:port
	HostKey   string `json:"host_key,omitempty"`  // SFTP: fingerprint of the server's key, SHA256:...
	Region    string `json:"region,omitempty"`    // S3
}

// Rule is a rule as the service keeps it.
type Rule struct {
	ID       string `gorm:"primaryKey"`
	Name     string
	Place    int  // in the order, from 1
	Running  bool // switched on
	Revision int
	Document string // JSON
	Removed  bool
	MadeAt   time.Time
	OnAt     *time.Time // when it was switched on; nil where it never was
}

// RuleRevision is one state of a rule.
type RuleRevision struct {
	RuleID   string `gorm:"primaryKey"`
	Revision int    `gorm:"primaryKey;autoIncrement:false"`
	Document string
	MadeBy   string
	MadeAt   time.Time
}

// StartMark is from where on a rule takes messages of a folder.
type StartMark struct {
	RuleID      string `gorm:"primaryKey"`
	MailboxID   string `gorm:"primaryKey"`
	Folder      string `gorm:"primaryKey"`
	UIDValidity uint32 // 0 until the folder was opened
	UIDNext     uint32
	MadeAt      time.Time
	Awaited     bool // the mailbox did not have the folder when the rule named it
}

// Folder is how far a mail folder has been looked through.
type Folder struct {
	MailboxID   string `gorm:"primaryKey"`
	Path        string `gorm:"primaryKey"`
	UIDValidity uint32
	UIDNext     uint32 // the first UID that was not looked at
	ModSeq      uint64
	LookedAt    time.Time
}

// Message is a message's facts.
type Message struct {
	ID            int64 `gorm:"primaryKey"`
	MailboxID     string
	Folder        string
	UIDValidity   uint32
	UID           uint32
	Fingerprint   []byte
	Likeness      []byte // see mail.Message; nil where it is not known
	ReceivedAt    time.Time
	ReceivedFrom  mail.Origin // from where that is known; with mail.Unknown it is the moment when Ink Tray saw the message
	Size          int64
	Flags         []string `gorm:"serializer:json"`
	Subject       string
	SenderName    string
	SenderAddress string
	Attachments   int
	Header        []byte
	Structure     []byte // JSON
	Whole         bool
	SeenAt        time.Time
	MovingTo      string // the mail folder to which Ink Tray is moving it
	ErasedAt      *time.Time
}

// State is the state of an item of the journal.
type State string

// The states. Planned and Staged are on their way; the others are final until a
// person decides otherwise.
const (
	Planned  State = "planned"
	Staged   State = "staged"
	Filed    State = "filed"
	LeftOut  State = "left out"
	Held     State = "held"
	Failed   State = "failed"
	There    State = "already there"
	SetAside State = "set aside"
)

// Entry is one item under one rule: a line of the journal.
type Entry struct {
	ID             int64 `gorm:"primaryKey"`
	RuleID         string
	RuleRevision   int
	MessageID      int64
	Item           string
	Round          int
	PassID         int64
	MailboxID      string
	CabinetID      string
	State          State
	Name           string // the attachment's, as the sender had it
	Kind           string
	Wanted         string        // the path that was planned
	Path           string        // the path that it has
	Temporary      string        // under what name its content is or was staged; "" of an earlier version's
	Made           string        // the topmost folder that was not there before it was filed
	Displaced      string        // under what name the cabinet keeps the file that was there
	Reason         reason.Reason `gorm:"serializer:reason"`
	Attempts       int
	Slow           int // it is filed beside the others of its mailbox, because that takes long: its Lane.Slow
	NextAt         *time.Time
	Size           int64
	SHA256         []byte `gorm:"column:sha256"`
	RegisterYear   int
	RegisterNumber int
	PlannedAt      time.Time
	AnnouncedAt    *time.Time
	DoneAt         *time.Time
	Cause          Cause  // of what is held or failed, to group by
	Topic          string // the topic that is in doubt, by its name; else ""
	Given          string // what a person decided: "again", "release", "elsewhere"
	Looked         Cause  // for which cause it was held when a person released it or filed it elsewhere
	// Values are what was read of the file; the register keeps them.
	Values   []value.Value `gorm:"-"`
	Spooled  string        // what is needed to file the copy of the content that waits here, JSON; "" where there is none
	Undo     Undo
	UndoPass int64
}

// Undo is how far a filing's undoing has come.
type Undo string

// The states of an undoing.
const (
	UndoAsked Undo = "asked"
	Undone    Undo = "done" // taken back, or it was another filing's file
	UndoKept  Undo = "kept" // somebody changed the file, or it is gone
)

// Cause is why something waits in the tray, as a word to group by.
type Cause = reason.Cause

// The causes.
const (
	CauseEncrypted  Cause = "encrypted"   // needs a password
	CauseUnreadable Cause = "unreadable"  // broken, or beyond a limit
	CauseDisguised  Cause = "disguised"   // its content is not what its name says
	CauseDoubtful   Cause = "doubtful"    // a condition cannot be known
	CauseTopic      Cause = "topic"       // it is not sure what it is about
	CauseCaution    Cause = "caution"     // a program, or what may hold one
	CauseValue      Cause = "value"       // a value that the rule asks for is not found
	CauseRepeated   Cause = "repeated"    // an earlier message had a file with the same value
	CauseVirus      Cause = "virus"       // the virus scanner found something
	CauseUnscanned  Cause = "unscanned"   // the virus scanner does not take it
	CauseUnread     Cause = "unread"      // the message could not be read
	CauseGone       Cause = "gone"        // the message or the attachment is not there any more
	CauseCabinet    Cause = "cabinet"     // the cabinet refuses
	CauseMailbox    Cause = "mailbox"     // the mailbox failed again and again
	CauseSetting    Cause = "setting"     // a rule names what is not there
	CauseCap        Cause = "cap"         // more than a rule or a sender may file in an hour
	CauseFollowUp   Cause = "follow-up"   // a follow-up could not be done
	CauseUnsure     Cause = "may be sent" // a mail that may have been sent
	CauseUnsent     Cause = "not sent"    // a mail or a call that could not be sent
	CauseMissing    Cause = "missing"     // a filed file is not where it was filed
	CauseChanged    Cause = "changed"     // a filed file has another content
	CauseOther      Cause = "other"
)

// FollowUp is one thing to do with a message under one rule.
type FollowUp struct {
	ID           int64 `gorm:"primaryKey"`
	MessageID    int64
	MailboxID    string
	RuleID       string
	RuleRevision int
	Round        int
	Place        int
	PassID       int64
	Kind         string
	What         string
	State        FollowState
	Cause        Cause
	Reason       reason.Reason `gorm:"serializer:reason"`
	Attempts     int
	NextAt       *time.Time
	FromFolder   string // of a move: where the message was
	FromValidity uint32
	FromUID      uint32
	MadeAt       time.Time
	DoneAt       *time.Time
}

// FollowState is the state of a follow-up, or of what is sent.
type FollowState string

// The states of follow-ups and of what is sent.
const (
	Waiting   FollowState = "waiting"
	Begun     FollowState = "begun"
	DidIt     FollowState = "done"
	NotDone   FollowState = "left out"
	CouldNot  FollowState = "failed"
	Unsure    FollowState = "unsure"
	LaidAside FollowState = "set aside"
)

// Post is a mail or a call that is queued, or was sent.
type Post struct {
	ID          int64 `gorm:"primaryKey"`
	FollowUpID  int64
	MessageID   int64
	MailboxID   string
	RuleID      string
	Purpose     string // "reply", "tell", "tray", "digest", "alarm", "trial"
	Kind        string // "mail" or "call"
	AddresseeID string
	Recipients  string // addresses, one a line
	Subject     string
	Content     []byte // the message (RFC 5322), or the event (CloudEvents JSON)
	Event       string // its own identity: the Message-ID or the event's id
	State       FollowState
	Cause       Cause
	Reason      reason.Reason `gorm:"serializer:reason"`
	Attempts    int
	NextAt      *time.Time
	MadeAt      time.Time
	DoneAt      *time.Time
}

// TableName is a mass noun.
func (Post) TableName() string { return "post" }

// Addressee is somebody who can be told.
type Addressee struct {
	ID        string `gorm:"primaryKey"`
	Name      string
	Kind      string   // "mail" or "call"
	Addresses []string `gorm:"serializer:json"`
	URL       string   `gorm:"column:url"`
	Secret    []byte   // sealed; of calls
	Inside    bool     // a call may go to the machine's own network
	Tray      string   // what waits in the tray is told: "never", "at once" or "daily"
	DailyAt   string   // "08:00"
	ToldAt    *time.Time
	Revision  int
	MadeAt    time.Time
}

// Alarm tells somebody of what did not happen.
type Alarm struct {
	ID           string `gorm:"primaryKey"`
	Name         string
	Kind         string // "silence" or "out of reach"
	RuleID       string
	AtLeast      int
	WithinHours  int
	ByTime       string   // "10:00"
	Weekdays     []string `gorm:"serializer:json"` // "monday" ...; none is every day
	Object       string   // of "out of reach": a mailbox or cabinet by id; "" is any
	AfterMinutes int
	Who          []string `gorm:"serializer:json"` // addressees by name
	CheckedAt    *time.Time
	RangAt       *time.Time
	Revision     int
	MadeAt       time.Time
}

// Outage is since when a mailbox or a cabinet has been out of reach.
type Outage struct {
	Kind   string `gorm:"primaryKey"`
	Object string `gorm:"primaryKey"`
	Since  time.Time
	Told   []string `gorm:"serializer:json"` // the alarms that told of it
}

// RetryState is the state of a message that could not be read to its end.
type RetryState string

// The states of such a message.
const (
	RetrySuspect  RetryState = "suspect"   // the program ended while it read this message among others; it is read alone
	RetryWaiting  RetryState = "waiting"   // it is tried again at NextAt
	RetryFailed   RetryState = "failed"    // it waits in the tray
	RetrySetAside RetryState = "set aside" // a person took it out of the tray
)

// Retry is a message that could not be read to its end.
type Retry struct {
	ID          int64 `gorm:"primaryKey"`
	MailboxID   string
	Folder      string
	UIDValidity uint32
	UID         uint32
	MessageID   int64 // 0 while its facts are not known
	Subject     string
	Sender      string
	Rules       []string `gorm:"serializer:json"` // the rules that take it, by id; see ByStartMarks
	PassID      int64    // the pass over old mail that met it; 0 for new mail
	State       RetryState
	Attempts    int
	Crashes     int // how often the program ended while it read this message alone
	Cause       Cause
	Reason      reason.Reason `gorm:"serializer:reason"`
	Slow        int           // it is read beside the others, because reading it takes long: its Lane.Slow
	NextAt      *time.Time    // nil for now
	MadeAt      time.Time
	AnnouncedAt *time.Time // when its server announced it; nil where it did not
	DoneAt      *time.Time // when it came into the tray
}

// Rejection is a message for a drop address that was refused for good.
type Rejection struct {
	ID        int64 `gorm:"primaryKey"`
	MailboxID string
	Sender    string // of the envelope (RFC 5321 section 3.3)
	Reason    string
	At        time.Time
}

// PassMessage is a message that a pass looked at.
type PassMessage struct {
	PassID    int64 `gorm:"primaryKey;autoIncrement:false"`
	MessageID int64 `gorm:"primaryKey;autoIncrement:false"`
	Matched   bool
}

// TableName is the journal.
func (Entry) TableName() string { return "journal" }

// Filing is one line of the register.
type Filing struct {
	Year          int `gorm:"primaryKey;autoIncrement:false"`
	Number        int `gorm:"primaryKey;autoIncrement:false"`
	JournalID     int64
	MessageID     int64
	Void          string // why the number came to nothing
	DrawnAt       time.Time
	FiledAt       *time.Time
	ReceivedAt    time.Time
	MailboxID     string
	Mailbox       string
	RuleID        string
	Rule          string
	CabinetID     string
	Cabinet       string
	SenderName    string
	SenderAddress string
	Subject       string
	Folder        string
	File          string
	Kind          string
	Size          int64
	SHA256        []byte `gorm:"column:sha256"`
	ReplacedBy    string // the number of the filing that took its place
	KeptAs        string // under what name the cabinet keeps it since
	KeptAt        *time.Time
	UndoneAt      *time.Time
	UndoneBy      string
	Revision      int // of the rule
	CheckedAt     *time.Time
	CheckState    string // what the last verification found wrong: "missing", "changed" or ""
	CheckSettled  bool   // somebody took that out of the tray
	ErasedAt      *time.Time
	// Values are what was read of the file, or what people made of it.
	Values []value.Value `gorm:"column:found;serializer:json"`
}

// State is what has become of the filing.
func (f *Filing) State() register.State {
	switch {
	case f.Void != "":
		return register.Void
	case f.UndoneAt != nil:
		return register.TakenBack
	case f.ReplacedBy != "":
		return register.Replaced
	case f.CheckState == "missing":
		return register.Missing
	case f.CheckState == "changed":
		return register.Changed
	case f.FiledAt != nil:
		return register.Filed
	}
	return register.Waiting
}

// Entry is the filing's number.
func (f *Filing) Entry() register.Number { return register.Number{Year: f.Year, Number: f.Number} }

// Note is what somebody wrote about a filing.
type Note struct {
	ID     int64 `gorm:"primaryKey"`
	Year   int
	Number int
	Text   string
	MadeBy string
	MadeAt time.Time
}

// TableName says of what.
func (Note) TableName() string { return "register_notes" }

// Happening is something that happened to a filing later.
type Happening struct {
	ID     int64 `gorm:"primaryKey"`
	Year   int
	Number int
	At     time.Time
	Kind   string // "taken back", "replaced", "put back", "missing", "changed", "found again", "settled", "erased"
	MadeBy string
	Text   string
}

// TableName says of what.
func (Happening) TableName() string { return "register_events" }

// RegisterFile is a register that is kept as a file in a cabinet, one for each year.
type RegisterFile struct {
	ID         string `gorm:"primaryKey"`
	Name       string // of the file, without year and extension
	CabinetID  string
	Folder     string
	Format     string // "csv" or "xlsx"
	Per        string // one line for each "filing" or "message"
	Scope      string // "all", "rule" or "folder"
	RuleID     string
	OfFolder   string   // of "folder": the folder and what is below it
	Columns    []string `gorm:"serializer:json"`
	Revision   int
	MadeBy     string
	MadeAt     time.Time
	LastChange int64 // of the register, up to which it is written
	Problem    string
	Advice     string
}

// RegisterFileYear is the file of one year.
type RegisterFileYear struct {
	FileID     string `gorm:"primaryKey"`
	Year       int    `gorm:"primaryKey;autoIncrement:false"`
	Path       string
	SHA256     []byte `gorm:"column:sha256"`
	NextSHA256 []byte `gorm:"column:next_sha256"` // what is being put in its place
	Rows       int
	WrittenAt  *time.Time
}

// TableName is the register.
func (Filing) TableName() string { return "register" }

// PassState is the state of a pass.
type PassState string

// The states of a pass.
const (
	Running PassState = "running"
	Paused  PassState = "paused"
	Stopped PassState = "stopped"
	Done    PassState = "done"
	Broken  PassState = "failed"
)

// Pass is one go over messages.
type Pass struct {
	ID        int64 `gorm:"primaryKey"`
	Kind      string
	RuleID    string
	MailboxID string
	MadeBy    string
	State     PassState
	Since     *time.Time
	Most      int
	Total     int
	Looked    int
	Matched   int
	Gone      int      // messages that were gone before they were read
	Unread    int      // messages that could not be read; they are in the tray
	Position  Position `gorm:"serializer:json"`
	Note      string
	PerMinute int    // at most so many messages a minute; 0 for no limit
	FromTime  string // "19:00": only from then on; "" for all day
	ToTime    string // "06:00": and only until then
	StartedAt time.Time
	EndedAt   *time.Time
	// of a pass over old mail: the mailboxes, by id, that who began it may see; nil for all
	OnlyIn []string `gorm:"serializer:json"`
	Undoes int64    // of a pass that undoes: the pass that it undoes; 0 where it is one filing
}

// TableName is plural in its own way.
func (Pass) TableName() string { return "passes" }

// Position is how far a pass over old mail has come. It changes only in the
// commit that keeps what was decided.
type Position struct {
	Done    []string `json:"done,omitempty"`    // "mailbox id/folder" that are finished
	Current string   `json:"current,omitempty"` // the folder that is being read, in the same form
	// The rest is about the current folder.
	Validity uint32 `json:"validity,omitempty"` // its UIDVALIDITY
	First    uint32 `json:"first,omitempty"`    // the messages of the pass have UIDs from First to Last
	Last     uint32 `json:"last,omitempty"`
	Count    int    `json:"count,omitempty"`   // how many there were when the pass opened the folder
	UID      uint32 `json:"uid,omitempty"`     // the last message that was decided, gone or kept for another try
	Decided  int    `json:"decided,omitempty"` // messages
	Matched  int    `json:"matched,omitempty"` // of these, messages for which the rule is
}

// Same says whether a pass has come as far as at b.
func (a *Position) Same(b *Position) bool {
	return len(a.Done) == len(b.Done) && a.Current == b.Current && a.UID == b.UID && a.Decided == b.Decided
}

// Notice is something that waits for a person and is no item.
type Notice struct {
	ID        int64  `gorm:"primaryKey"`
	Kind      string // "mailbox", "cabinet", "renumbered", "message"
	Object    string
	MailboxID string
	Text      string
	Advice    string
	MadeAt    time.Time
}
