// Package architecture holds the table of the program's packages: what each of them is for and what it may import.
// Tests check the table against the code, and write it into the documents.
package architecture

// Package is one row: a folder with everything in it that has no row of its own.
type Package struct {
	Path    string   // from the repository's root
	Holds   string   // what it owns, in one sentence
	Imports []string // the packages of this program that it may import, with what is in their folders
	Large   string   // why it may have more lines than others; "" where it may not
}

// owners are the packages that the engine consists of, from the lowest to the highest.
var owners = []string{"internal/base", "internal/events", "internal/clock", "internal/fault", "internal/passes",
	"internal/office",
	"internal/cabinets", "internal/mailboxes", "internal/reading", "internal/filing", "internal/outbox",
	"internal/registry", "internal/backups",
	"internal/rehearsal", "internal/desk"}

// until lists the owners that stand before the one with this path, which may import only these.
func until(path string, more ...string) []string {
	for i, p := range owners {
		if p == path {
			return append(append([]string{"internal/core", "internal/store"}, owners[:i]...), more...)
		}
	}
	panic("no owner " + path)
}

// Packages is the table, from the lowest to the highest.
var Packages = []Package{
	{Path: "internal/core", Holds: "the job itself: messages, rules, patterns, plans, register; without I/O",
		Imports: []string{"internal/core"}},
	{Path: "internal/core/rule", Holds: "the rule document: its language, its checks, its evaluation with reasons, its " +
		"sentence",
		Imports: []string{"internal/core"},
		Large: "reading, checking, evaluating and speaking a rule share each condition; apart, each new condition " +
			"touches four packages"},
	{Path: "internal/texts", Holds: "the texts of the console, the service and the command line in other languages"},
	{Path: "internal/reach", Holds: "connections to servers: TLS, pinned certificates, proxies, discovery"},
	{Path: "internal/connections", Holds: "how many connections an account and a host may have, and who waits for one",
		Imports: []string{"internal/reach"}},
	{Path: "internal/inbound", Holds: "by which addresses the service itself is reached"},
	{Path: "internal/proof", Holds: "who sent a message, by signatures and reports (RFC 8601)",
		Imports: []string{"internal/core"}},
	{Path: "internal/disk", Holds: "files with flushes, and a file system that forgets for tests",
		Imports: []string{"internal/disk"}},
	{Path: "internal/post", Holds: "sending mails and calls", Imports: []string{"internal/testbed"}},
	{Path: "internal/scan", Holds: "asking a virus scanner", Imports: []string{"internal/testbed"}},
	{Path: "internal/child", Holds: "confined processes that open hostile files", Imports: []string{"internal/core"}},
	{Path: "internal/child/program", Holds: "the program that these processes are, for the service to carry"},
	{Path: "internal/source", Holds: "mailboxes: IMAP, POP3, files, drop addresses; one interface, one conformance suite",
		Imports: []string{"internal/core", "internal/disk", "internal/proof", "internal/inbound", "internal/reach",
			"internal/source"}},
	{Path: "internal/cabinet", Holds: "places for files: local, WebDAV, SFTP, S3, SMB; one interface, one conformance " +
		"suite",
		Imports: []string{"internal/core", "internal/disk", "internal/reach", "internal/cabinet"}},
	{Path: "internal/store", Holds: "the records in SQLite; the only package that knows SQL",
		Imports: []string{"internal/core", "internal/disk", "internal/source"},
		Large:   "each aggregate has its type and file; all share one writer and its transactions"},
	{Path: "internal/events", Holds: "what happens, for everyone who watches"},
	{Path: "internal/base", Holds: "what every owner works with: records, clock, log, events, the life of the run",
		Imports: []string{"internal/events", "internal/store"}},
	{Path: "internal/memory", Holds: "memory that is not used is given back to the machine"},
	{Path: "internal/headroom", Holds: "how much of open files and memory is in use, of what there may be"},
	{Path: "internal/supervise", Holds: "the service manager hears that the service is ready, alive, at its end"},
	{Path: "internal/backup", Holds: "backups: one sealed file with everything an installation consists of",
		Imports: []string{"internal/disk"}},
	{Path: "internal/replica", Holds: "a copy elsewhere that follows each change: pages, files, keys, whose turn it is",
		Imports: []string{"internal/backup", "internal/cabinet", "internal/disk", "internal/store"}},
	{Path: "internal/turn", Holds: "who goes first: how long a message may take, and what gives way to new ones"},
	{Path: "internal/clock", Holds: "whether this machine's clock can be trusted", Imports: until("internal/clock")},
	{Path: "internal/fault", Holds: "whose failure an error is: a message's, a mailbox's or the machine's",
		Imports: until("internal/fault", "internal/source")},
	{Path: "internal/passes", Holds: "which passes run, and what people asked of them", Imports: until("internal/passes")},
	{Path: "internal/office", Holds: "the settings that messages are planned with, as one snapshot",
		Imports: until("internal/office", "internal/proof")},
	{Path: "internal/cabinets", Holds: "the places where files go: circuit breaker, lease, moves",
		Imports: until("internal/cabinets", "internal/cabinet")},
	{Path: "internal/mailboxes", Holds: "how mailboxes are reached, and mail that only Ink Tray keeps",
		Imports: until("internal/mailboxes", "internal/connections", "internal/disk", "internal/reach", "internal/source")},
	{Path: "internal/reading", Holds: "reading a message within its budget, and planning it",
		Imports: until("internal/reading", "internal/child", "internal/proof", "internal/scan", "internal/source")},
	{Path: "internal/filing", Holds: "filing one item exactly once: journal, names, staging, recovery, caps",
		Imports: until("internal/filing", "internal/cabinet", "internal/disk", "internal/scan", "internal/source")},
	{Path: "internal/outbox", Holds: "what leaves the service: changes in mailboxes, replies, notices, calls, alarms",
		Imports: until("internal/outbox", "internal/post", "internal/source", "internal/texts")},
	{Path: "internal/registry", Holds: "the register's services: files, exports, verification, undo, erasing, retention",
		Imports: until("internal/registry", "internal/cabinet", "internal/connections", "internal/source")},
	{Path: "internal/backups", Holds: "when and where backups are made, and that each can be read",
		Imports: until("internal/backups", "internal/backup", "internal/cabinet", "internal/disk")},
	{Path: "internal/rehearsal", Holds: "what rules would do with messages, and why",
		Imports: until("internal/rehearsal", "internal/cabinet", "internal/source")},
	{Path: "internal/machines", Holds: "the other machines of the office: copies of their records, what is asked of " +
		"them",
		Imports: []string{"internal/base", "internal/events", "internal/reach", "internal/replica", "internal/store"}},
	{Path: "internal/desk", Holds: "what people do with single messages: read, decide, file by hand, teach",
		Imports: until("internal/desk", "internal/child", "internal/source")},
	{Path: "internal/checkup", Holds: "whether an installation can do its work, and what to do where it cannot",
		Imports: append([]string{"internal/core", "internal/headroom", "internal/replica", "internal/scan",
			"internal/store"}, owners...)},
	{Path: "internal/engine", Holds: "watchers and passes; starts and stops the service",
		Imports: append([]string{"internal/core", "internal/store", "internal/cabinet", "internal/child",
			"internal/connections", "internal/disk", "internal/scan", "internal/source", "internal/turn"}, owners...)},
	{Path: "client", Holds: "the generated client of the interface, also for programs of others"},
	{Path: "internal/api", Holds: "openapi.yaml, generated code, handlers, sign-in, the event stream",
		Imports: append([]string{"internal/backup", "internal/checkup", "internal/connections", "internal/core",
			"internal/engine", "internal/inbound",
			"internal/machines", "internal/replica", "internal/store", "internal/texts"}, owners...),
		Large: "one thin handler for each operation of openapi.yaml"},
	{Path: "internal/console", Holds: "the built console, and how it is served",
		Imports: []string{"internal/texts"}},
	{Path: "internal/demo", Holds: "the Brackwater harbour office as data, and its mail server",
		Imports: []string{"internal/core", "internal/demo/paper"}},
	{Path: "internal/demo/paper", Holds: "papers as a scanner sees them, for the demo and for tests"},
	{Path: "internal/testbed", Holds: "real servers for tests, on loopback"},
	{Path: "internal/architecture", Holds: "this table"},
	{Path: "internal/cli", Holds: "the commands; serve and demo put the service together",
		Imports: []string{"client", "internal"},
		Large:   "one file for each noun of the command line, and the options of serve"},
	{Path: "cmd/inktray", Holds: "main, and nothing else", Imports: []string{"internal/cli"}},
	{Path: "cmd/inktray-reader", Holds: "the main of a process that opens hostile files",
		Imports: []string{"internal/child"}},
}
