package rule

import "strings"

// Sentence says the rule in plain words: the letter without its blanks.
func (c *Compiled) Sentence() string {
	r := c.Rule
	var b strings.Builder
	b.WriteString("Look in " + c.look() + ". For ")
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
			steps = append(steps, "file "+what+" "+e.target.say())
		}
	}
	if c.rest != nil {
		steps = append(steps, "file the rest "+c.rest.say())
	} else if len(c.entries) > 0 && !c.entries[len(c.entries)-1].all {
		steps = append(steps, "leave the rest")
	}
	b.WriteString(strings.Join(steps, "; ") + ".")
	if left := c.leftOut(); left != "" {
		b.WriteString(" Left out unasked: " + left + ".")
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
	return mailboxes + noun + list(folders, "and")
}

func (c *Compiled) leftOut() string {
	var parts []string
	for _, d := range []struct {
		key  Default
		text string
	}{
		{SignaturePictures, "inline pictures under " + Size(SignaturePictureSize).String()}, {DetachedSignatures, "detached signatures"},
		{ActiveFiles, "active files"}, {ForwardedMessages, "forwarded messages themselves"},
	} {
		if c.leaves[d.key] {
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
	s := "in " + t.Folder.String()
	if name := t.Name.String(); name != "<file.stem>" {
		s += ", named " + name
	}
	if t.IfExists == "keep" {
		s += ", keeping a file that has the name already"
	}
	return s
}
