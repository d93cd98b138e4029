package reason

import "strings"

// Cause is the heading under which something waits in the tray.
type Cause string

// entry is what follows from a code. Names in braces stand for what the reason tells of, {of} for the reasons in it.
type entry struct {
	tells    string // the names of what it tells of, in their order
	sentence string
	advice   string
	cause    Cause
}

func (e entry) names() []string { return strings.Fields(e.tells) }

// ofInner says that the advice, and the cause where there is none, are those of the reasons in it.
const ofInner = "{of}"

const (
	decide  = "Look at the message and decide: release it, try again or set it aside."
	isMeant = "Ask the sender whether the file is right. If it is, release it. If not, set it aside."
	ofCap   = "If that is right, try all of them again. If not, check the rule and the sender."
	choose  = "Choose a cabinet in the rule, then try again."
	putBack = "Put the message back, or let a rule look where it is now. Then try again."
)

// catalogue holds every reason there is.
var catalogue = map[Code]entry{
	"said":          {tells: "text advice", sentence: "{text}", advice: "{advice}"},
	"all of these":  {sentence: "{of}", advice: ofInner},
	"planned again": {sentence: "tried again under the rule as it is now: {of}", advice: ofInner},
	"conditions":    {tells: "text", sentence: "{text}"},
	"doubtful":      {tells: "text", sentence: "{text}", advice: decide, cause: "doubtful"},
	"topic in doubt": {
		tells:    "topic text",
		sentence: "{text}",
		advice: "Say whether it is about “{topic}”. Ink Tray then files or leaves it, and the topic learns from your " +
			"answer.",
		cause: "topic",
	},
	"take care": {tells: "text", sentence: "{text}", advice: decide, cause: "caution"},
	"value not found": {
		tells:    "name why",
		sentence: "the file does not have the value “{name}”{why}",
		advice: "Look at the file. Release it and enter the value in the register, or correct where the rule looks " +
			"for it and try again.",
		cause: "value",
	},
	"value repeated": {
		tells:    "name text where",
		sentence: "the value “{name}” is “{text}” again, as in {where}",
		advice:   "Compare the two. Release the new one to file both, or set it aside.",
		cause:    "repeated",
	},
	"encrypted":           {tells: "text", sentence: "{text}", advice: decide, cause: "encrypted"},
	"unreadable":          {tells: "text", sentence: "{text}", advice: decide, cause: "unreadable"},
	"released":            {sentence: "released by a person"},
	"copy of the message": {sentence: "a copy of the message"},
	"copy beside":         {sentence: "a copy of the message, beside the PDF that could not be drawn in full"},
	"remark":              {tells: "text", sentence: "{text}"},
	"unpacked":            {sentence: "unpacked; the files in it are filed instead"},
	"to be unpacked":      {sentence: "to be unpacked; the files in it are seen once it is opened"},
	"unpacked and empty":  {sentence: "unpacked; it is empty"},
	"no such cabinet": {
		tells:    "cabinet",
		sentence: "there is no cabinet called “{cabinet}”",
		advice:   choose,
		cause:    "setting",
	},
	"cabinet removed":   {sentence: "the rule's cabinet is no longer there", advice: choose, cause: "setting"},
	"rule removed":      {sentence: "the rule was removed"},
	"rule switched off": {sentence: "the rule was switched off"},
	"too many for the tray": {
		tells: "count",
		sentence: "{count} files of this message wait for a person, more than the tray takes of one message; " +
			"this one stands for all of them. It says: {of}",
		advice: "Look at the message in the mail program. To file what it holds, save its files and sort them " +
			"by hand.",
	},
	"message gone": {
		tells:    "folder",
		sentence: "the message is no longer in the folder “{folder}”",
		advice:   "If someone moved it, put it back, or let a rule look where it is now. Then try again.",
		cause:    "gone",
	},
	"folder gone": {
		tells:    "folder",
		sentence: "the folder “{folder}” is no longer in the mailbox",
		advice:   putBack,
		cause:    "gone",
	},
	"numbered anew": {
		sentence: "the folder got new numbers, and the message is no longer in it",
		advice:   putBack,
		cause:    "gone",
	},
	"attachment gone": {
		sentence: "the message no longer has this attachment",
		advice:   "Look at the message; perhaps the mail server changed it.",
		cause:    "gone",
	},
	"mailbox fails": {
		tells:    "problem attempts",
		sentence: "{problem}",
		advice:   "Ink Tray tried {attempts} times. Look at the mailbox, then try again.",
		cause:    "mailbox",
	},
	"failing":               {tells: "problem", sentence: "{problem}"},
	"waits for the cabinet": {tells: "problem", sentence: "waits for the cabinet: {problem}"},
	"waits for the scanner": {tells: "problem", sentence: "waits: {problem}"},
	"cabinet refuses":       {tells: "problem advice", sentence: "{problem}", advice: "{advice}", cause: "cabinet"},
	"cabinet takes others": {
		tells:    "problem",
		sentence: "the cabinet does not take this file: {problem}",
		advice:   "Look at the cabinet and at the file, then try again.",
		cause:    "cabinet",
	},
	"no name": {
		tells:    "problem",
		sentence: "the file could not get a name in its folder: {problem}",
		advice:   "Look at the folder in the cabinet, then try again.",
		cause:    "cabinet",
	},
	"not drawn": {
		tells:    "problem",
		sentence: "the message could not be drawn: {problem}",
		advice:   "Its EML copy is filed instead.",
		cause:    "unreadable",
	},
	"drawn in part": {tells: "text", sentence: "{text}; the EML copy beside it has all"},
	"rule over files": {
		tells: "rule count",
		sentence: "the rule “{rule}” had {count} files filed within an hour, which is the most that Settings " +
			"allow",
		advice: ofCap,
		cause:  "cap",
	},
	"rule over megabytes": {
		tells: "rule count",
		sentence: "the rule “{rule}” would have more than {count} MB filed within an hour, which is the most " +
			"that Settings allow",
		advice: ofCap,
		cause:  "cap",
	},
	"rule over folders": {
		tells: "rule count",
		sentence: "the rule “{rule}” had {count} new folders made within an hour, which is the most that " +
			"Settings allow",
		advice: ofCap,
		cause:  "cap",
	},
	"sender over files": {
		tells: "sender count",
		sentence: "the sender {sender} had {count} files filed within an hour, which is the most that Settings " +
			"allow",
		advice: ofCap,
		cause:  "cap",
	},
	"sender over megabytes": {
		tells: "sender count",
		sentence: "the sender {sender} would have more than {count} MB filed within an hour, which is the most " +
			"that Settings allow",
		advice: ofCap,
		cause:  "cap",
	},
	"sender over folders": {
		tells: "sender count",
		sentence: "the sender {sender} had {count} new folders made within an hour, which is the most that " +
			"Settings allow",
		advice: ofCap,
		cause:  "cap",
	},
	"archive locked": {
		sentence: "an archive that needs a password, so Ink Tray cannot look into it",
		advice:   isMeant,
		cause:    "encrypted",
	},
	"disguised": {
		tells:    "name content",
		sentence: "{name}, but it is {content}",
		advice:   isMeant, cause: "disguised",
	},
	"differs from its name": {tells: "name content", sentence: "{name}, but it is {content}"},
	"empty":                 {sentence: "the file is empty"},
	"virus": {
		tells:    "virus",
		sentence: "the virus scanner found {virus}",
		advice:   isMeant, cause: "virus",
	},
	"not scanned": {tells: "problem", sentence: "{problem}", advice: isMeant, cause: "unscanned"},
	"macros": {
		sentence: "an office file with macros, which are programs, though its name does not say so",
		advice:   isMeant,
		cause:    "caution",
	},
	"not written":  {sentence: "{of}. Nothing was written", advice: ofInner},
	"filed before": {tells: "path", sentence: "the same attachment of the same message was filed before, as {path}"},
	"taken back before": {
		sentence: "the same attachment of the same message was filed before and taken back by a person",
	},
	"recognised": {
		tells:    "path time",
		sentence: "it had been filed as {path} after the backup of {time}, from which the records were restored",
	},
	"recognised, replaced": {
		tells: "path time",
		sentence: "it had been filed as {path} and replaced by a later file after the backup of {time}, from which the " +
			"records were restored",
	},
	"taken back after the backup": {
		sentence: "it had been taken back after the backup from which the records were restored",
	},
	"perhaps taken back": {
		tells: "time",
		sentence: "a file with this content had been filed and taken back after the backup of {time}, from which the " +
			"records were restored",
		advice: "If it should be filed, release it; if not, set it aside.",
		cause:  "doubtful",
	},
	"moved without a file": {
		tells: "folder time",
		sentence: "the message is in “{folder}”, to which the rule moves what it has filed, and came after the backup of " +
			"{time}, from which the records were restored; but no file of it was found in the cabinet",
		advice: "Release it to file it now, or set it aside if it should not be filed.",
		cause:  "doubtful",
	},
	"done before the restoring": {
		tells: "time",
		sentence: "the message had been filed after the backup of {time}, from which the records were restored, so this " +
			"was done then",
	},
	"perhaps done before the restoring": {
		tells: "time",
		sentence: "the message came after the backup of {time}, from which the records were restored, so this was perhaps " +
			"done then",
		advice: "Check whether it was done. If not, try again; else set it aside.",
		cause:  "may be sent",
	},
	"in another folder too": {
		tells:    "path",
		sentence: "the same message is in another folder, too, and is filed from there as {path}",
	},
	"same content":   {tells: "path", sentence: "a file with the same content is there already: {path}"},
	"file kept":      {tells: "path", sentence: "a file of that name is there and is kept: {path}"},
	"something kept": {tells: "path", sentence: "something of that name is there and is kept: {path}"},
	"name taken":     {tells: "name", sentence: "the name {name} was taken by another content"},
	"name taken by no file": {
		tells:    "name",
		sentence: "the name {name} was taken by something that is not a file, or that cannot be read",
	},
	"not replaced, not filed here": {
		tells:    "name",
		sentence: "the name {name} belongs to a file that Ink Tray did not file, so it was not replaced",
	},
	"not replaced, changed": {
		tells:    "name",
		sentence: "the name {name} belongs to a file that was changed after it was filed, so it was not replaced",
	},
	"not replaced, later": {
		tells: "name",
		sentence: "the name {name} belongs to a file of a message that was received later, so it was not " +
			"replaced",
	},
	"replaces": {
		tells:    "number received",
		sentence: "takes the place of number {number}, received on {received}, which is kept",
	},
	"found in the cabinet":      {sentence: "it was found in the cabinet, and no record knew of it"},
	"missing, filed again":      {sentence: "its file was missing, so it is filed again"},
	"nothing filed":             {sentence: "this rule files nothing from the message"},
	"no reply":                  {tells: "why", sentence: "no reply: {why}"},
	"if verified":               {sentence: "if the sender is verified"},
	"sender not verified":       {tells: "why", sentence: "no reply: the sender is not verified ({why})"},
	"moved by an earlier rule":  {tells: "rule", sentence: "the earlier rule “{rule}” moves the message"},
	"in that folder":            {sentence: "the message is in that folder"},
	"old mail":                  {sentence: "not sent: the message arrived before the rule was on"},
	"no such follow-up":         {sentence: "the rule has no such follow-up"},
	"message not there":         {sentence: "the message is no longer in the mailbox where it was"},
	"no labels":                 {sentence: "the mail server keeps no labels"},
	"mailbox cannot be changed": {sentence: "this kind of mailbox cannot be changed"},
	"so already":                {sentence: "nothing to change: it was already done"},
	"follow-up refused": {
		tells:    "problem",
		sentence: "{problem}",
		advice:   "Look at the folder in the mail program, then try again.",
		cause:    "follow-up",
	},
	"taken back": {tells: "person", sentence: "taken back by {person}"},
	"no such addressee": {
		tells:    "addressee",
		sentence: "there is no notification called “{addressee}”",
		advice:   "Add it in Settings, Notifications, or correct the name.",
		cause:    "setting",
	},
	"may have been sent": {
		sentence: "the program ended while the mail was sent, so it may have been sent",
		advice:   "Ask the recipient. If it did not arrive, try again; else set it aside.",
		cause:    "may be sent",
	},
	"sending unsure": {tells: "problem advice", sentence: "{problem}", advice: "{advice}", cause: "may be sent"},
	"not sent":       {tells: "problem advice", sentence: "{problem}", advice: "{advice}", cause: "not sent"},
	"not sent yet":   {tells: "problem advice", sentence: "{problem}", advice: "{advice}"},
	"not read": {
		tells:    "problem",
		sentence: "{problem}",
		advice:   "Look at the message in the mail program and file it by hand, or try again.",
		cause:    "unread",
	},
	"not read yet": {tells: "problem", sentence: "{problem}"},
	"numbered anew, not read": {
		sentence: "the mail server gave the messages of the folder new numbers before Ink Tray could read this " +
			"one",
		advice: "Let the rule file old mail again.",
		cause:  "unread",
	},
	"erased":             {sentence: "the reason was erased, because it can name a person"},
	"nothing was filed":  {sentence: "this rule filed nothing from the message"},
	"filed already":      {tells: "path", sentence: "filed already, as {path}"},
	"being filed":        {sentence: "is being filed already"},
	"waits in the tray":  {sentence: "waits in the tray already: {of}"},
	"set aside":          {sentence: "set aside by a person"},
	"taken back earlier": {sentence: "a person took it back; it can be filed again from the message"},
	"replied already": {
		tells:    "recipient time",
		sentence: "no reply: {recipient} had one from this rule within {time}",
	},
	"stays, not filed here": {sentence: "the file stays: it was there before, and Ink Tray did not file it"},
	"stays, no cabinet":     {sentence: "the file stays: its cabinet was removed"},
	"stays, changed":        {sentence: "the file stays: it was changed after it was filed"},
	"stays, shared":         {sentence: "the file stays: it is the file of another filing too"},
	"not where filed":       {sentence: "the file is no longer where it was filed"},
	"cabinet unreadable":    {tells: "problem", sentence: "the cabinet cannot be read now: {problem}"},
	"not taken back":        {sentence: "not taken back: {of}"},
	"taken back, shared":    {sentence: "taken back; the file stays, since it is another filing's too"},
	"taken out":             {sentence: "the file is taken out of its folder and kept for a while"},
	"put back":              {sentence: "the file that it replaced is put back"},
	"has its place again":   {sentence: "the file that it replaced has its place again"},
	"place taken":           {sentence: "the file that it replaced is kept, since its place is taken"},
}
