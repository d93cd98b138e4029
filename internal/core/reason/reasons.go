package reason

// Said is a sentence that an earlier version kept, or that a person wrote.
func Said(text, advice string) Reason { return Reason{Code: "said", With: []string{text, advice}} }

// Replanned is a verdict of the rule as it is now, on what was tried again.
func Replanned(inner Reason) Reason { return Reason{Code: "planned again", Of: []Reason{inner}} }

// Conditions are how the conditions of a rule came out, in words.
func Conditions(text string) Reason {
	if text == "" {
		return Reason{}
	}
	return Reason{Code: "conditions", With: []string{text}}
}

// Doubtful is a condition that cannot be known.
func Doubtful(text string) Reason { return Reason{Code: "doubtful", With: []string{text}} }

// Topic is a topic that is in doubt.
func Topic(topic, text string) Reason {
	return Reason{Code: "topic in doubt", With: []string{topic, text}}
}

// Caution is a program, or what may hold one.
func Caution(text string) Reason { return Reason{Code: "take care", With: []string{text}} }

// NoValue is a value that is not found, or is no such value: why says so.
func NoValue(name, why string) Reason {
	if why != "" {
		why = ": " + why
	}
	return Reason{Code: "value not found", With: []string{name, why}}
}

// Repeated is a value that an earlier message had already: where says in which file.
func Repeated(name, text, where string) Reason {
	return Reason{Code: "value repeated", With: []string{name, text, where}}
}

// Encrypted is what needs a password.
func Encrypted(text string) Reason { return Reason{Code: "encrypted", With: []string{text}} }

// Unreadable is what is broken, or beyond a limit.
func Unreadable(text string) Reason { return Reason{Code: "unreadable", With: []string{text}} }

// Released is what a person let go.
func Released() Reason { return Reason{Code: "released"} }

// MessageCopy is a copy that the rule asks for.
func MessageCopy() Reason { return Reason{Code: "copy of the message"} }

// CopyBeside is the EML copy beside a PDF that lacks something.
func CopyBeside() Reason { return Reason{Code: "copy beside"} }

// Remark is what is to be known about an attachment beside the verdict.
func Remark(text string) Reason {
	if text == "" {
		return Reason{}
	}
	return Reason{Code: "remark", With: []string{text}}
}

// Unpacked is an archive whose files are filed.
func Unpacked() Reason { return Reason{Code: "unpacked"} }

// ToUnpack is an archive that was not opened yet.
func ToUnpack() Reason { return Reason{Code: "to be unpacked"} }

// UnpackedEmpty is an archive with nothing in it.
func UnpackedEmpty() Reason { return Reason{Code: "unpacked and empty"} }

// NoCabinet is a rule that names a cabinet that is not there.
func NoCabinet(cabinet string) Reason {
	return Reason{Code: "no such cabinet", With: []string{cabinet}}
}

// CabinetRemoved is a cabinet that was removed since the item was planned.
func CabinetRemoved() Reason { return Reason{Code: "cabinet removed"} }

// RuleRemoved is a rule that is not there any more.
func RuleRemoved() Reason { return Reason{Code: "rule removed"} }

// RuleOff is what was planned and not begun when its rule was switched off.
func RuleOff() Reason { return Reason{Code: "rule switched off"} }

// TooMany stands for all entries of a message that has more than the tray takes.
func TooMany(count string, inner Reason) Reason {
	return Reason{Code: "too many for the tray", With: []string{count}, Of: []Reason{inner}}
}

// MessageGone is a message that is not where it was.
func MessageGone(folder string) Reason { return Reason{Code: "message gone", With: []string{folder}} }

// FolderGone is a folder of the mailbox that is not there any more.
func FolderGone(folder string) Reason { return Reason{Code: "folder gone", With: []string{folder}} }

// NumberedAnew is a message that is not in its folder since the server numbered that anew (RFC 3501 section 2.3.1.1).
func NumberedAnew() Reason { return Reason{Code: "numbered anew"} }

// AttachmentGone is an attachment that the message does not have any more.
func AttachmentGone() Reason { return Reason{Code: "attachment gone"} }

// MailboxFails is a mailbox that failed again and again.
func MailboxFails(problem, attempts string) Reason {
	return Reason{Code: "mailbox fails", With: []string{problem, attempts}}
}

// Failing is what went wrong and is tried again.
func Failing(problem string) Reason { return Reason{Code: "failing", With: []string{problem}} }

// WaitsForCabinet is a cabinet that is away.
func WaitsForCabinet(problem string) Reason {
	return Reason{Code: "waits for the cabinet", With: []string{problem}}
}

// WaitsForScanner is a virus scanner that does not answer.
func WaitsForScanner(problem string) Reason {
	return Reason{Code: "waits for the scanner", With: []string{problem}}
}

// CabinetRefuses is what the cabinet says about one file.
func CabinetRefuses(problem, advice string) Reason {
	return Reason{Code: "cabinet refuses", With: []string{problem, advice}}
}

// NotTaken is a cabinet that takes other files and not this one.
func NotTaken(problem string) Reason {
	return Reason{Code: "cabinet takes others", With: []string{problem}}
}

// NoName is a folder in which a file got no name.
func NoName(problem string) Reason { return Reason{Code: "no name", With: []string{problem}} }

// Undrawn is a message of which no PDF could be made.
func Undrawn(problem string) Reason { return Reason{Code: "not drawn", With: []string{problem}} }

// DrawnInPart is a PDF of a message that lacks something.
func DrawnInPart(text string) Reason { return Reason{Code: "drawn in part", With: []string{text}} }

// RuleFiles is a rule that files more than Settings allow.
func RuleFiles(rule, count string) Reason {
	return Reason{Code: "rule over files", With: []string{rule, count}}
}

// RuleMB is a rule that files more octets than Settings allow.
func RuleMB(rule, count string) Reason {
	return Reason{Code: "rule over megabytes", With: []string{rule, count}}
}

// RuleFolders is a rule that makes more folders than Settings allow.
func RuleFolders(rule, count string) Reason {
	return Reason{Code: "rule over folders", With: []string{rule, count}}
}

// SenderFiles is a sender of whom more is filed than Settings allow.
func SenderFiles(sender, count string) Reason {
	return Reason{Code: "sender over files", With: []string{sender, count}}
}

// SenderMB is a sender of whom more octets are filed than Settings allow.
func SenderMB(sender, count string) Reason {
	return Reason{Code: "sender over megabytes", With: []string{sender, count}}
}

// SenderFolders is a sender for whom more folders are made than Settings allow.
func SenderFolders(sender, count string) Reason {
	return Reason{Code: "sender over folders", With: []string{sender, count}}
}

// Locked is an archive that needs a password.
func Locked() Reason { return Reason{Code: "archive locked"} }

// Disguised is a content that is not what its name says.
func Disguised(name, content string) Reason {
	return Reason{Code: "disguised", With: []string{name, content}}
}

// Differs is a content that is not what its name says, and that the rule files all the same.
func Differs(name, content string) Reason {
	return Reason{Code: "differs from its name", With: []string{name, content}}
}

// Empty is a file with nothing in it.
func Empty() Reason { return Reason{Code: "empty"} }

// Virus is what the virus scanner found.
func Virus(virus string) Reason { return Reason{Code: "virus", With: []string{virus}} }

// Unscanned is a file that the virus scanner does not take.
func Unscanned(problem string) Reason { return Reason{Code: "not scanned", With: []string{problem}} }

// Macros is an office file with programs in it.
func Macros() Reason { return Reason{Code: "macros"} }

// NotWritten says that of what is held nothing is in the cabinet.
func NotWritten(inner Reason) Reason { return Reason{Code: "not written", Of: []Reason{inner}} }

// FiledBefore is the same attachment of the same message.
func FiledBefore(path string) Reason { return Reason{Code: "filed before", With: []string{path}} }

// TakenBack is what a person took back.
func TakenBack() Reason { return Reason{Code: "taken back before"} }

// OtherFolder is the same message in another folder of the mailbox.
func OtherFolder(path string) Reason {
	return Reason{Code: "in another folder too", With: []string{path}}
}

// SameContent is a file in the cabinet with the same content.
func SameContent(path string) Reason { return Reason{Code: "same content", With: []string{path}} }

// KeptFile is a file that the rule does not replace.
func KeptFile(path string) Reason { return Reason{Code: "file kept", With: []string{path}} }

// KeptOther is something other than a file that has the name.
func KeptOther(path string) Reason { return Reason{Code: "something kept", With: []string{path}} }

// Taken is a name that another file has.
func Taken(name string) Reason { return Reason{Code: "name taken", With: []string{name}} }

// TakenByOther is a name that something other than a file has.
func TakenByOther(name string) Reason {
	return Reason{Code: "name taken by no file", With: []string{name}}
}

// NotOurs is a file that Ink Tray did not file.
func NotOurs(name string) Reason {
	return Reason{Code: "not replaced, not filed here", With: []string{name}}
}

// ChangedSince is a file that somebody changed since it was filed.
func ChangedSince(name string) Reason {
	return Reason{Code: "not replaced, changed", With: []string{name}}
}

// LaterThere is a file of a later message.
func LaterThere(name string) Reason { return Reason{Code: "not replaced, later", With: []string{name}} }

// Replaces is a file that takes the place of an earlier one.
func Replaces(number, received string) Reason {
	return Reason{Code: "replaces", With: []string{number, received}}
}

// Found is a file that the records did not know.
func Found() Reason { return Reason{Code: "found in the cabinet"} }

// Refiled is a filing whose file was missing.
func Refiled() Reason { return Reason{Code: "missing, filed again"} }

// NothingFiled is a follow-up of a rule that files nothing of the message.
func NothingFiled() Reason { return Reason{Code: "nothing filed"} }

// NoReply is a message that is not answered by itself.
func NoReply(why string) Reason { return Reason{Code: "no reply", With: []string{why}} }

// IfVerified is a reply that hangs on the sender being verified.
func IfVerified() Reason { return Reason{Code: "if verified"} }

// NotVerified is a sender who is not verified.
func NotVerified(why string) Reason { return Reason{Code: "sender not verified", With: []string{why}} }

// MovedByEarlier is a message that an earlier rule moves.
func MovedByEarlier(rule string) Reason {
	return Reason{Code: "moved by an earlier rule", With: []string{rule}}
}

// InThatFolder is a message that is where it is to be moved to.
func InThatFolder() Reason { return Reason{Code: "in that folder"} }

// OldMail is a reply that is not sent, because the mail is old.
func OldMail() Reason { return Reason{Code: "old mail"} }

// NoSuchStep is a follow-up that the rule no longer has.
func NoSuchStep() Reason { return Reason{Code: "no such follow-up"} }

// NotThere is a message on which a follow-up cannot be done.
func NotThere() Reason { return Reason{Code: "message not there"} }

// NoLabels is a mail server that keeps no labels.
func NoLabels() Reason { return Reason{Code: "no labels"} }

// Unchangeable is a kind of mailbox in which nothing can be done.
func Unchangeable() Reason { return Reason{Code: "mailbox cannot be changed"} }

// SoAlready is a mark or label that the message had.
func SoAlready() Reason { return Reason{Code: "so already"} }

// StepRefused is a follow-up that the mail server refuses.
func StepRefused(problem string) Reason {
	return Reason{Code: "follow-up refused", With: []string{problem}}
}

// TakenBackBy is what a person took back by hand.
func TakenBackBy(person string) Reason { return Reason{Code: "taken back", With: []string{person}} }

// NoAddressee is a rule that names somebody who is not in Settings.
func NoAddressee(addressee string) Reason {
	return Reason{Code: "no such addressee", With: []string{addressee}}
}

// MayBeSent is a mail that was being sent when the program ended.
func MayBeSent() Reason { return Reason{Code: "may have been sent"} }

// Unsure is a mail of which nobody knows whether the server took it.
func Unsure(problem, advice string) Reason {
	return Reason{Code: "sending unsure", With: []string{problem, advice}}
}

// Unsent is a mail or a call that could not be sent.
func Unsent(problem, advice string) Reason {
	return Reason{Code: "not sent", With: []string{problem, advice}}
}

// NotSentYet is a mail or a call that is tried again.
func NotSentYet(problem, advice string) Reason {
	return Reason{Code: "not sent yet", With: []string{problem, advice}}
}

// Unread is a message that could not be read.
func Unread(problem string) Reason { return Reason{Code: "not read", With: []string{problem}} }

// NotReadYet is a message that is read again.
func NotReadYet(problem string) Reason { return Reason{Code: "not read yet", With: []string{problem}} }

// RenumberedUnread is a message that lost its number (RFC 3501 section 2.3.1.1) before it was read.
func RenumberedUnread() Reason { return Reason{Code: "numbered anew, not read"} }

// NothingWasFiled is a follow-up of a rule that filed nothing of the message.
func NothingWasFiled() Reason { return Reason{Code: "nothing was filed"} }

// FiledAlready is what the same rule filed already.
func FiledAlready(path string) Reason { return Reason{Code: "filed already", With: []string{path}} }

// BeingFiled is what is being filed at this moment.
func BeingFiled() Reason { return Reason{Code: "being filed"} }

// WaitsInTray is what waits for a person already.
func WaitsInTray(inner Reason) Reason { return Reason{Code: "waits in the tray", Of: []Reason{inner}} }

// SetAside is what a person set aside.
func SetAside() Reason { return Reason{Code: "set aside"} }

// TakenBackEarlier is what a person took back.
func TakenBackEarlier() Reason { return Reason{Code: "taken back earlier"} }

// RepliedAlready is a sender who had a reply of the same rule not long ago.
func RepliedAlready(recipient, time string) Reason {
	return Reason{Code: "replied already", With: []string{recipient, time}}
}

// StaysNotFiledHere is a file that is not taken back, because Ink Tray did not file it.
func StaysNotFiledHere() Reason { return Reason{Code: "stays, not filed here"} }

// StaysNoCabinet is a file that is not taken back, because its cabinet was removed.
func StaysNoCabinet() Reason { return Reason{Code: "stays, no cabinet"} }

// StaysChanged is a file that is not taken back, because somebody changed it.
func StaysChanged() Reason { return Reason{Code: "stays, changed"} }

// StaysShared is a file that is not taken back, because another filing has it, too.
func StaysShared() Reason { return Reason{Code: "stays, shared"} }

// NotWhereFiled is a file that is not where it was filed.
func NotWhereFiled() Reason { return Reason{Code: "not where filed"} }

// CabinetUnreadable is a cabinet that cannot be read at this moment.
func CabinetUnreadable(problem string) Reason {
	return Reason{Code: "cabinet unreadable", With: []string{problem}}
}

// NotTakenBack says why a filing stays though somebody took it back.
func NotTakenBack(inner Reason) Reason { return Reason{Code: "not taken back", Of: []Reason{inner}} }

// TakenBackShared is a filing that was taken back, and whose file stays.
func TakenBackShared() Reason { return Reason{Code: "taken back, shared"} }

// TakenOut is what becomes of a file that is taken back.
func TakenOut() Reason { return Reason{Code: "taken out"} }

// PutBack is what becomes of the file that it replaced.
func PutBack() Reason { return Reason{Code: "put back"} }

// PlaceAgain is what became of the file that it replaced.
func PlaceAgain() Reason { return Reason{Code: "has its place again"} }

// PlaceTaken is what became of the file that it replaced where another has its place.
func PlaceTaken() Reason { return Reason{Code: "place taken"} }

// Erased is a reason that could name a person whose traces were erased.
func Erased() Reason { return Reason{Code: "erased"} }

// Recognised is what had been filed after the backup from which the records were restored. time is when that was made.
func Recognised(path, time string) Reason {
	return Reason{Code: "recognised", With: []string{path, time}}
}

// RecognisedReplaced is what had been filed, and replaced, after that backup.
func RecognisedReplaced(path, time string) Reason {
	return Reason{Code: "recognised, replaced", With: []string{path, time}}
}

// TakenBackAfterBackup is a filing of the backup that had been taken back after it.
func TakenBackAfterBackup() Reason { return Reason{Code: "taken back after the backup"} }

// PerhapsTakenBack is what is not filed, because the same content had been filed and taken back after the backup.
func PerhapsTakenBack(time string) Reason {
	return Reason{Code: "perhaps taken back", With: []string{time}}
}

// MovedWithoutFile is an item of a message that lies where a rule moves messages, and of which there is no file.
func MovedWithoutFile(folder, time string) Reason {
	return Reason{Code: "moved without a file", With: []string{folder, time}}
}

// DoneBeforeRestoring is what is not done again after the records were restored.
func DoneBeforeRestoring(time string) Reason {
	return Reason{Code: "done before the restoring", With: []string{time}}
}

// PerhapsDoneBeforeRestoring is what is not done again, though nobody can say whether it was done.
func PerhapsDoneBeforeRestoring(time string) Reason {
	return Reason{Code: "perhaps done before the restoring", With: []string{time}}
}
