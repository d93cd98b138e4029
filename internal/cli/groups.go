package cli

// The commands are grouped by noun. Each group works with the one command line's streams, service and format.
type (
	backupCommands   struct{ *command }
	applyCommands    struct{ *command }
	bookCommands     struct{ *command }
	cabinetCommands  struct{ *command }
	checkupCommands  struct{ *command }
	doorCommands     struct{ *command }
	historyCommands  struct{ *command }
	mailCommands     struct{ *command }
	mailboxCommands  struct{ *command }
	peopleCommands   struct{ *command }
	registerCommands struct{ *command }
	ruleCommands     struct{ *command }
	serviceCommands  struct{ *command }
	signInCommands   struct{ *command }
	topicCommands    struct{ *command }
)
