package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
)

func findTopic(ctx context.Context, api *client.Client, name string) (client.Topic, error) {
	all, err := call[[]client.Topic](api.ListTopics(ctx))
	return named(all, err, "topic", name, func(x *client.Topic) (string, string) { return x.Name, x.ID })
}

// exportedTopic reads what topics export wrote.
func exportedTopic(file string, data []byte) (x client.TopicDocument, err error) {
	if err := json.Unmarshal(data, &x); err != nil {
		return x, &exitError{exitInvalid, fmt.Sprintf("%s is not an exported topic: %s", file, inWords(err))}
	}
	switch {
	case x.Format != 1:
		return x, &exitError{exitInvalid, fmt.Sprintf("%s has format %d; this version reads format 1", file, x.Format)}
	case len(x.Examples) == 0:
		return x, &exitError{exitInvalid, file + " is not an exported topic: it holds no examples"}
	}
	return x, nil
}

// sort says whether the one or the other of two options was given.
type sort struct{ about, other bool }

func (s *sort) add(cmd *cobra.Command, about, other string) {
	cmd.Flags().BoolVar(&s.about, "about", false, about)
	cmd.Flags().BoolVar(&s.other, "not-about", false, other)
}

func (s *sort) said() (bool, error) {
	if s.about == s.other {
		return false, usageError{errors.New("say which: --about or --not-about")}
	}
	return s.about, nil
}

// topics are the commands about topics.
func (c topicCommands) topics() *cobra.Command {
	root := &cobra.Command{Use: "topics", Short: "What messages are about, learned from examples that you mark"}
	root.AddCommand(c.list(), showing(c.command, "Show a topic, and how good it is", findTopic), c.add(), c.rename(),
		c.remove(), c.mark(), c.examples(), c.forget(), c.ask(), c.past(), c.export(), c.imports())
	return root
}

// said tells what a topic knows after something was done with it.
func (c topicCommands) said(t client.Topic, doing string) error {
	return c.show(t, func() {
		c.printf("%s “%s” knows %s about it and %d that are not. %s\n", doing, t.Name, count(t.About, "message"),
			t.Others, t.Sentence)
		if !t.Ready {
			c.printf("Messages that would teach it most: inktray topics ask %q\n", t.Name)
		}
	})
}

// topicDo runs a command with the topic that is named by the first argument, and with the other arguments.
type topicDo func(ctx context.Context, api *client.Client, t client.Topic, rest []string) error

// one makes a command about one topic.
func (c topicCommands) one(use, short string, args cobra.PositionalArgs, f topicDo) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Args: args,
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			t, err := findTopic(ctx, api, args[0])
			if err != nil {
				return err
			}
			return f(ctx, api, t, args[1:])
		})}
}

func (c topicCommands) list() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the topics, and how good each is", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			all, err := call[[]client.Topic](api.ListTopics(ctx))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				for _, t := range all {
					c.printf("%s (%d about it, %d not)\n    %s\n", t.Name, t.About, t.Others, t.Sentence)
					if len(t.Rules) > 0 {
						c.printf("    asked for by “%s”\n", strings.Join(t.Rules, "”, “"))
					}
				}
				if len(all) == 0 {
					c.println("There is no topic. Make one: inktray topics add \"Berth requests\"")
				}
			})
		}),
	}
}

func (c topicCommands) add() *cobra.Command {
	return &cobra.Command{
		Use: "add NAME", Short: "Add a topic", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			t, err := call[client.Topic](api.AddTopic(ctx, client.TopicSettings{Name: args[0]}))
			if err != nil {
				return err
			}
			return c.said(t, "Made.")
		}),
	}
}

func (c topicCommands) rename() *cobra.Command {
	return c.one("rename NAME NEW-NAME", "Give a topic another name", cobra.ExactArgs(2),
		func(ctx context.Context, api *client.Client, t client.Topic, rest []string) error {
			after, err := call[client.Topic](api.ChangeTopic(ctx, t.ID, &client.ChangeTopicParams{},
				client.TopicSettings{Name: rest[0]}))
			if err != nil {
				return err
			}
			return c.said(after, "Renamed.")
		})
}

func (c topicCommands) remove() *cobra.Command {
	yes := false
	cmd := c.one("remove NAME", "Remove a topic with its examples", cobra.ExactArgs(1),
		func(ctx context.Context, api *client.Client, t client.Topic, _ []string) error {
			if err := c.confirm(fmt.Sprintf("The topic “%s” and all that it learned are removed. Remove?", t.Name),
				yes); err != nil {
				return err
			}
			if _, err := call[nothing](api.RemoveTopic(ctx, t.ID)); err != nil {
				return err
			}
			c.printf("“%s” and what it learned are gone.\n", t.Name)
			return nil
		})
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

func (c topicCommands) mark() *cobra.Command {
	var which sort
	mark := c.one("mark NAME MESSAGE...", "Mark messages as about the topic or not; the topic learns from this",
		cobra.MinimumNArgs(2), func(ctx context.Context, api *client.Client, t client.Topic, rest []string) error {
			about, err := which.said()
			if err != nil {
				return err
			}
			numbers, err := numbersOf(rest)
			if err != nil {
				return err
			}
			after, err := call[client.Topic](api.MarkMessages(ctx, t.ID, client.MarkRequest{Messages: numbers, About: about}))
			if err != nil {
				return err
			}
			return c.said(after, "Learned.")
		})
	mark.Example = "  inktray topics mark \"Berth requests\" 41 42 47 --about"
	which.add(mark, "they are about it", "they are not")
	return mark
}

func (c topicCommands) examples() *cobra.Command {
	return c.one("examples NAME", "List the examples of a topic", cobra.ExactArgs(1),
		func(ctx context.Context, api *client.Client, t client.Topic, _ []string) error {
			all, err := call[[]client.TopicExample](api.ListExamples(ctx, t.ID))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, x := range all {
					rows = append(rows, []string{fmt.Sprint(x.ID), map[bool]string{true: "about it", false: "not"}[x.About],
						short(x.Subject, 50), short(x.Sender, 34), when(x.MarkedAt), x.MarkedBy, x.Origin})
				}
				c.table([]string{"NO.", "", "SUBJECT", "FROM", "MARKED", "BY", "IN"}, rows)
			})
		})
}

func (c topicCommands) forget() *cobra.Command {
	return c.one("forget NAME EXAMPLE...", "Remove examples, by their numbers in topics examples",
		cobra.MinimumNArgs(2),
		func(ctx context.Context, api *client.Client, t client.Topic, rest []string) error {
			numbers, err := numbersOf(rest)
			if err != nil {
				return err
			}
			after, err := call[client.Topic](api.TakeExamplesBack(ctx, t.ID, &client.TakeExamplesBackParams{ID: numbers}))
			if err != nil {
				return err
			}
			return c.said(after, "Taken back.")
		})
}

func (c topicCommands) ask() *cobra.Command {
	var most int
	ask := c.one("ask NAME", "List messages whose answer would teach the topic most", cobra.ExactArgs(1),
		func(ctx context.Context, api *client.Client, t client.Topic, _ []string) error {
			all, err := call[[]client.Teaching](api.ListTeachings(ctx, t.ID, &client.ListTeachingsParams{Most: &most}))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, x := range all {
					rows = append(rows, []string{fmt.Sprint(x.Message.ID),
						short(who(x.Message.SenderName, x.Message.SenderAddress), 30), short(x.Message.Subject, 50),
						fmt.Sprintf("%d %%", x.Likely)})
				}
				c.table([]string{"NO.", "FROM", "SUBJECT", "LIKELY"}, rows)
				if len(all) > 0 {
					c.printf("\nAnswer: inktray topics mark %q %d --about, or --not-about\n", t.Name, all[0].Message.ID)
				}
			})
		})
	ask.Flags().IntVar(&most, "most", 20, "how many")
	return ask
}

func (c topicCommands) past() *cobra.Command {
	var last, confidence int
	past := c.one("past NAME", "Show which of the last messages a rule with this topic would have filed; nothing is "+
		"written",
		cobra.ExactArgs(1), func(ctx context.Context, api *client.Client, t client.Topic, _ []string) error {
			p := &client.RehearseTopicParams{Last: &last}
			if confidence > 0 {
				p.Confidence = &confidence
			}
			x, err := call[client.Rehearsal](api.RehearseTopic(ctx, t.ID, p))
			if err != nil {
				return err
			}
			return c.show(x, func() { c.showPast(&x, t.Name) })
		})
	past.Flags().IntVar(&last, "last", 100, "how many messages")
	past.Flags().IntVar(&confidence, "confidence", 0, "how sure it has to be, in percent; 85 by default")
	return past
}

// showPast shows what a rule would have taken of the past.
func (c topicCommands) showPast(x *client.Rehearsal, topic string) {
	sure, doubt := 0, 0
	var rows [][]string
	for _, m := range x.Messages {
		switch m.Answer {
		case "yes":
			sure++
		case "cannot be known":
			doubt++
		default:
			continue
		}
		rows = append(rows,
			[]string{map[bool]string{true: "about it", false: "in doubt"}[m.Matches], fmt.Sprint(m.Message.ID),
				short(who(m.Message.SenderName, m.Message.SenderAddress), 26), short(m.Message.Subject, 40), short(m.Reason, 90)})
	}
	c.table([]string{"", "NO.", "FROM", "SUBJECT", "WHY"}, rows)
	c.printf("\nOf the last %s, %d are about “%s” for sure and %d are in doubt. Nothing was written.\n",
		count(x.Looked, "message"), sure, topic, doubt)
}

func (c topicCommands) export() *cobra.Command {
	var file string
	export := c.one("export NAME", "Write a topic with the text of its examples as JSON", cobra.ExactArgs(1),
		func(ctx context.Context, api *client.Client, t client.Topic, _ []string) error {
			x, err := call[client.TopicDocument](api.ExportTopic(ctx, t.ID))
			if err != nil {
				return err
			}
			if file == "" {
				return c.json(x)
			}
			data, err := json.MarshalIndent(x, "", "  ")
			if err != nil {
				return err
			}
			if err := os.WriteFile(file, append(data, '\n'), 0o600); err != nil {
				return err
			}
			c.printf("“%s” with %s is in %s.\n", t.Name, count(len(x.Examples), "example"), file)
			return nil
		})
	export.Flags().StringVar(&file, "file", "", "write into this file")
	return export
}

func (c topicCommands) imports() *cobra.Command {
	var name string
	imports := &cobra.Command{
		Use: "import FILE", Short: "Let a topic learn from an exported one; - reads standard input", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			data, err := c.readFile(args[0])
			if err != nil {
				return err
			}
			x, err := exportedTopic(args[0], data)
			if err != nil {
				return err
			}
			if name != "" {
				x.Name = name
			}
			t, err := call[client.Topic](api.ImportTopic(ctx, x))
			if err != nil {
				return err
			}
			return c.said(t, fmt.Sprintf("Learned from %s.", count(len(x.Examples), "example")))
		}),
	}
	imports.Flags().StringVar(&name, "name", "",
		"the topic that learns; by default the one that the file names")
	return imports
}

// judge shows what the topics make of a message.
func (c topicCommands) judge() *cobra.Command {
	return &cobra.Command{
		Use: "topics NUMBER", Short: "Show what each topic says about a message, and by which words",
		Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			n, err := numberOf(args[0], "message")
			if err != nil {
				return err
			}
			all, err := call[[]client.TopicVerdict](api.JudgeMessage(ctx, n))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, x := range all {
					likely, decision := "", string(x.Decision)
					if x.Likely != nil {
						likely = fmt.Sprintf("%d %%", *x.Likely)
					}
					if x.Said != nil {
						decision = map[bool]string{true: "about (you said so)", false: "not about (you said so)"}[*x.Said]
					}
					rows = append(rows, []string{x.Topic, decision, likely, strings.Join(x.For, ", "), strings.Join(x.Against, ", ")})
				}
				c.table([]string{"TOPIC", "VERDICT", "LIKELY", "FOR IT", "AGAINST IT"}, rows)
			})
		}),
	}
}

// prove says whether it is proven who sent a message.
func (c topicCommands) prove() *cobra.Command {
	return &cobra.Command{
		Use: "verify NUMBER", Short: "Check whether the sender of a message is verified", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			n, err := numberOf(args[0], "message")
			if err != nil {
				return err
			}
			p, err := call[client.Proof](api.ProveMessage(ctx, n))
			if err != nil {
				return err
			}
			return c.show(p, func() { c.printf("The sender is %s: %s.\n", p.State, p.Text) })
		}),
	}
}

func (c topicCommands) trust() *cobra.Command {
	root := &cobra.Command{Use: "trust", Short: "Decide which senders count as verified; shows the virus scanner"}
	say := func(t client.Trust) error {
		return c.show(t, func() {
			servers := "no server: signatures are checked here"
			if len(t.Servers) > 0 {
				servers = strings.Join(t.Servers, ", ") + "; else signatures are checked here"
			}
			yes := map[bool]string{true: "only if the sender is verified", false: "whether or not the sender is verified"}
			c.printf("Trusted mail servers      %s\nReplies are sent          %s\nCorrespondents count      %s\n",
				servers, yes[t.Replies], yes[t.Correspondents])
			scanner := "none; start with --virus-scanner to have one asked"
			if t.Scanner != nil {
				scanner = *t.Scanner + ": " + *t.ScannerSays
			}
			c.printf("Virus scanner             %s\n", scanner)
		})
	}
	var servers []string
	var replies, correspondents bool
	set := &cobra.Command{
		Use: "set", Short: "Set which senders count as verified", Args: cobra.NoArgs,
		Example: "  inktray trust set --server mx.brackwater.example --replies --correspondents=false",
	}
	set.RunE = func(cmd *cobra.Command, args []string) error {
		return c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			t, err := call[client.Trust](api.GetTrust(ctx))
			if err != nil {
				return err
			}
			body := client.TrustSettings{Servers: t.Servers, Replies: t.Replies, Correspondents: t.Correspondents}
			if cmd.Flags().Changed("server") {
				body.Servers = append([]string{}, servers...)
			}
			if cmd.Flags().Changed("replies") {
				body.Replies = replies
			}
			if cmd.Flags().Changed("correspondents") {
				body.Correspondents = correspondents
			}
			if t, err = call[client.Trust](api.SetTrust(ctx, &client.SetTrustParams{IfMatch: ifMatch(t.Revision)},
				body)); err != nil {
				return err
			}
			return say(t)
		})(cmd, args)
	}
	set.Flags().StringSliceVar(&servers, "server", nil,
		"name under which the office's own mail server reports in Authentication-Results (RFC 8601); can be given "+
			"several times, empty for none")
	set.Flags().BoolVar(&replies, "replies", true, "reply to verified senders only")
	set.Flags().BoolVar(&correspondents, "correspondents", true, "recognise correspondents only where the sender is "+
		"verified")
	root.AddCommand(&cobra.Command{
		Use: "show", Short: "Show the settings", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			t, err := call[client.Trust](api.GetTrust(ctx))
			if err != nil {
				return err
			}
			return say(t)
		}),
	}, set)
	return root
}

func (c topicCommands) scans() *cobra.Command {
	root := &cobra.Command{Use: "scans", Short: "How the text in scanned papers and pictures is read"}
	say := func(s client.Scans) error {
		return c.show(s, func() {
			by := "not at all: " + c.absent(s)
			if s.Tesseract != "" && s.Read {
				by = fmt.Sprintf("by Tesseract %s, in %s", s.Tesseract, strings.Join(s.Used, ", "))
			} else if s.Tesseract != "" {
				by = "not at all, which is how it was set"
			}
			chosen := "all that are installed, four at most"
			if len(s.Languages) > 0 {
				chosen = strings.Join(s.Languages, ", ")
			}
			installed := "none"
			if len(s.Installed) > 0 {
				installed = strings.Join(s.Installed, ", ")
			}
			c.printf("Scans are read       %s\nLanguages            %s\nInstalled            %s\n"+
				"Pages of one file    %d at most\n", by, chosen, installed, s.Pages)
		})
	}
	var languages []string
	var read bool
	var pages int
	set := &cobra.Command{
		Use: "set", Short: "Set how scans are read; options that you leave out stay as they are", Args: cobra.NoArgs,
		Example: "  inktray scans set --language deu --language eng --pages 20\n  inktray scans set --read=false",
	}
	set.RunE = func(cmd *cobra.Command, args []string) error {
		return c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			s, err := call[client.Scans](api.GetScans(ctx))
			if err != nil {
				return err
			}
			body := client.ScansSettings{Read: s.Read, Languages: s.Languages, Pages: s.Pages}
			if cmd.Flags().Changed("language") {
				body.Languages = append([]string{}, languages...)
			}
			if cmd.Flags().Changed("read") {
				body.Read = read
			}
			if cmd.Flags().Changed("pages") {
				body.Pages = pages
			}
			if s, err = call[client.Scans](api.SetScans(ctx, &client.SetScansParams{IfMatch: ifMatch(s.Revision)},
				body)); err != nil {
				return err
			}
			return say(s)
		})(cmd, args)
	}
	set.Flags().StringSliceVar(&languages, "language", nil, "language in which scans are read, as Tesseract calls it, "+
		"such as deu; can be given several times, empty for all that are installed")
	set.Flags().BoolVar(&read, "read", true, "read scans at all")
	set.Flags().IntVar(&pages, "pages", 10, "how many scanned pages of one file are read at most")
	root.AddCommand(&cobra.Command{
		Use: "show", Short: "Show the settings", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			s, err := call[client.Scans](api.GetScans(ctx))
			if err != nil {
				return err
			}
			return say(s)
		}),
	}, set)
	return root
}

// absent is why there is no Tesseract.
func (topicCommands) absent(s client.Scans) string {
	if s.Absent == nil {
		return ""
	}
	return *s.Absent
}
