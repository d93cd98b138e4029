package cli

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"inktray.example/inktray/internal/texts"
)

// languageOf is the language that the environment asks for, as in Accept-Language; "" for none. LC_ALL counts before
// LC_MESSAGES, and that before LANG (POSIX.1-2017, XBD section 8.2).
func languageOf(env func(string) string) string {
	name, _, _ := strings.Cut(cmp.Or(env("LC_ALL"), env("LC_MESSAGES"), env("LANG")), ".")
	name, _, _ = strings.Cut(name, "@")
	if name == "C" || name == "POSIX" {
		return ""
	}
	return strings.ReplaceAll(name, "_", "-")
}

func (c *command) useLanguage() {
	c.language = languageOf(os.Getenv)
	c.texts = texts.For(c.language)
}

// printf writes a text in the language of the person. Its values stay as they are, but for numbers with a noun.
func (c *command) printf(format string, values ...any) {
	if c.texts == nil {
		fmt.Fprintf(c.out, format, values...)
		return
	}
	fmt.Fprintf(c.out, c.texts.Format(format), c.counts(values)...)
}

// println writes a text and a line end in the language of the person.
func (c *command) println(text string) { fmt.Fprintln(c.out, c.texts.Say(text)) }

// tellf writes a text to where errors go, in the language of the person.
func (c *command) tellf(format string, values ...any) {
	if c.texts == nil {
		fmt.Fprintf(c.errs, format, values...)
		return
	}
	fmt.Fprintf(c.errs, c.texts.Format(format), c.counts(values)...)
}

// tellln writes a text and a line end to where errors go, in the language of the person.
func (c *command) tellln(text string) { fmt.Fprintln(c.errs, c.texts.Say(text)) }

// wrong says an error in the language of the person. What the service says is wrong is in it already, and holds names
// of the interface that are in none.
func (c *command) wrong(err error) string {
	text := inWords(err)
	var p *problem
	if errors.As(err, &p) && text == p.Error() {
		return p.in(c.texts)
	}
	return c.texts.Say(text)
}

// counts says the values that are a number with its noun, such as "3 files".
func (c *command) counts(values []any) []any {
	said := make([]any, len(values))
	for i, v := range values {
		said[i] = v
		if text, ok := v.(string); ok {
			said[i] = c.texts.Count(text)
		}
	}
	return said
}

// speak puts the help of a command into the language of the person, and the one line of each of those below it.
func (c *command) speak(cmd *cobra.Command) {
	if c.texts == nil {
		return
	}
	if c.spoken == nil {
		c.spoken = map[*string]bool{}
	}
	once := func(text *string, say func(string) string) {
		if !c.spoken[text] {
			c.spoken[text], *text = true, say(*text)
		}
	}
	cmd.InitDefaultHelpFlag()
	once(&cmd.Short, c.texts.Say)
	once(&cmd.Long, c.paragraphs)
	said := func(f *pflag.Flag) { once(&f.Usage, c.texts.Say) }
	cmd.LocalFlags().VisitAll(said)
	cmd.InheritedFlags().VisitAll(said)
	for _, sub := range cmd.Commands() {
		once(&sub.Short, c.texts.Say)
	}
}

// speakAll puts the help of a command and of all below into the language of the person.
func (c *command) speakAll(cmd *cobra.Command) {
	c.speak(cmd)
	for _, sub := range cmd.Commands() {
		c.speakAll(sub)
	}
}

// paragraphs says a text as a whole, or else each of its paragraphs.
func (c *command) paragraphs(text string) string {
	if said, ok := c.texts.Find(text); ok {
		return said
	}
	parts := strings.Split(text, "\n\n")
	for i, p := range parts {
		parts[i] = c.texts.Say(p)
	}
	return strings.Join(parts, "\n\n")
}

// helpWords are the words around a command's help.
var helpWords = []string{"Usage:", "Aliases:", "Examples:", "Available Commands:", "Additional Commands:",
	"Global Flags:", "Flags:", "Additional help topics:", "for more information about a command."}

// speakHelp puts the help that is asked for into the language of the person. All of it would take half a second.
func (c *command) speakHelp(root *cobra.Command, args []string) {
	if c.texts == nil {
		return
	}
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	template := root.UsageTemplate()
	for _, word := range helpWords {
		template = strings.ReplaceAll(template, word, c.texts.Say(word))
	}
	root.SetUsageTemplate(template)
	help, usage := root.HelpFunc(), root.UsageFunc()
	root.SetHelpFunc(func(cmd *cobra.Command, args []string) {
		c.speak(cmd)
		help(cmd, args)
	})
	root.SetUsageFunc(func(cmd *cobra.Command) error {
		c.speak(cmd)
		return usage(cmd)
	})
	if len(args) > 1 && args[0] == cobra.ShellCompRequestCmd { // a shell wants what may follow, with what it does
		if cmd, _, err := root.Find(args[1 : len(args)-1]); err == nil {
			c.speak(cmd)
		}
	}
}
