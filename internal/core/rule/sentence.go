package rule

import "strings"

// Sentence says the rule in plain words: the letter without its blanks. What every rule does is left out.
func (c *Compiled) Sentence() string { return c.say(true) }

// Summary says what is special about the rule: whom it is for, what it takes and what it does then. It does not say
// where the files go.
func (c *Compiled) Summary() string { return c.say(false) }

func (c *Compiled) say(places bool) string {
	r := c.Rule
	var b strings.Builder
	where := func(t *Target) string {
		if !places {
			return ""
		}
		return " " + t.say() + c.elsewhere(t)
	}
	if l := r.Look; places || len(l.Folders) > 0 || l.Subfolders {
		b.WriteString("Look in " + c.look() + ". ")
	}
	b.WriteString("For ")
	if r.Match.Every {
		b.WriteString("every message")
	} else {
		b.WriteString("messages " + c.match.say(false))
	}
	if len(c.unless) > 0 {
		var all []string
		for _, u := range c.unless {
			all = append(all, u.say(true))
		}
		b.WriteString(", unless " + strings.Join(all, " or "))
	}
	b.WriteString(": ")
	var steps []string
	for i := range c.entries {
		e := &c.entries[i]
		what := "every attachment"
		if !e.all {
			var tests []string
			for _, t := range e.tests {
				tests = append(tests, t.sentence)
			}
			what = list(tests, "and")
		}
		if e.leave {
			steps = append(steps, "leave out "+what)
		} else {
			steps = append(steps, "file "+what+where(&e.target))
		}
	}
	if c.rest != nil {
		steps = append(steps, "file the rest"+where(c.rest))
	} else if len(c.entries) > 0 && !c.entries[len(c.entries)-1].all {
		steps = append(steps, "leave the rest")
	}
	if len(c.copies) > 0 {
		var forms []string
		own := ""
		for i, copy := range c.copies {
			forms = append(forms,
				map[CopyForm]string{CopyEML: "EML", CopyHTML: "a web page", CopyText: "text", CopyPDF: "PDF"}[copy.form])
			if places && r.Copies[i].Folder != "" && own == "" {
				own = ", " + copy.target.say()
			}
		}
		steps = append(steps, "file a copy of the message as "+list(forms, "and")+own)
	}
	if len(steps) == 0 {
		steps = append(steps, "file nothing")
	}
	b.WriteString(strings.Join(steps, "; ") + "." + c.reading())
	if r.FullText {
		b.WriteString(" Searches find the words in the filed files.")
	}
	if after := c.saySteps(); after != "" {
		b.WriteString(" Afterwards " + after + ".")
	}
	if also := c.alsoTaken(); also != "" {
		b.WriteString(" Also takes " + also + ".")
	}
	if free := c.notHeld(); free != "" {
		b.WriteString(" Does not hold " + free + " for your decision.")
	}
	if r.Then == "stop" {
		b.WriteString(" Later rules do not see these messages.")
	}
	return b.String()
}

func (c *Compiled) look() string {
	l := c.Rule.Look
	mailboxes := list(l.Mailboxes, "and")
	if len(l.Mailboxes) == 1 && l.Mailboxes[0] == "all" {
		mailboxes = "all mailboxes"
	}
	folders := l.Folders
	if len(folders) == 0 {
		folders = Names{"inbox"}
	}
	noun := ", folder "
	if len(folders) > 1 {
		noun = ", folders "
	}
	if l.Every() {
		return mailboxes + ", every folder"
	}
	within := ""
	if l.Subfolders {
		within = " and the folders in it"
		if len(folders) > 1 {
			within = " and the folders in them"
		}
	}
	return mailboxes + noun + list(folders, "and") + within
}

// notHeld says what the rule files without asking, unlike usual; active files only where they are not left out.
func (c *Compiled) notHeld() string {
	var parts []string
	for _, h := range []struct {
		key  Caution
		text string
	}{{DisguisedFiles, "files that are not what their name says"}, {Macros, "office files with macros"},
		{LockedArchives, "archives with a password"}, {ActiveNames, "active files"}} {
		if !c.holds[h.key] && !(h.key == ActiveNames && c.leaves[ActiveFiles]) {
			parts = append(parts, h.text)
		}
	}
	return list(parts, "and")
}

// alsoTaken says what the rule takes that rules leave out usually.
func (c *Compiled) alsoTaken() string {
	var parts []string
	for _, d := range []struct {
		key  Default
		text string
	}{
		{SignaturePictures, "inline pictures under " + Size(SignaturePictureSize).String()},
		{DetachedSignatures, "detached signatures"},
		{ActiveFiles, "active files"}, {ForwardedMessages, "forwarded messages themselves"},
		{DeliveryReports, "delivery reports"},
	} {
		if !c.leaves[d.key] {
			parts = append(parts, d.text)
		}
	}
	return list(parts, "and")
}

// say gives a condition in words. As an exception, "whose subject begins with"
// becomes "the subject begins with".
func (t *test) say(exception bool) string {
	if t.group == "" {
		if exception {
			if rest, ok := strings.CutPrefix(t.sentence, "whose "); ok {
				return "the " + rest
			}
			return "it is " + strings.TrimPrefix(t.sentence, "that are ")
		}
		return t.sentence
	}
	var parts []string
	for _, p := range t.parts {
		s := p.say(exception)
		if len(p.parts) > 1 && len(t.parts) > 1 {
			s = "(" + s + ")"
		}
		parts = append(parts, s)
	}
	switch t.group {
	case "all":
		return strings.Join(parts, " and ")
	case "any":
		return strings.Join(parts, " or ")
	}
	return "not " + strings.Join(parts, " and not ")
}

func (t *Target) say() string {
	s := "in " + t.Folder.InWords()
	if t.Own != nil {
		s += ", each message in a folder of its own"
	}
	if name := t.Name.String(); name != "<file.stem>" {
		s += ", named " + t.Name.InWords()
	}
	switch t.Unpack {
	case "files":
		s += ", archives unpacked"
	case "both":
		s += ", archives unpacked and kept as well"
	}
	if t.Unpack != "archive" && t.Drop {
		s += " without their inner folders"
	}
	switch t.IfExists {
	case "keep":
		s += ", keeping a file that has the name already"
	case "replace":
		s += ", replacing a file of that name from an earlier message"
	}
	return s
}

// elsewhere names a cabinet that is not the rule's own.
func (c *Compiled) elsewhere(t *Target) string {
	if t.Cabinet == c.Rule.Cabinet {
		return ""
	}
	return " of the cabinet " + quote(t.Cabinet)
}
