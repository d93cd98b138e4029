// Package cli is the command line: the client's commands over the service's
// interface, and serve and demo, which put the service together.
package cli

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/signal"
	"runtime"
	"runtime/debug"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/child"
	"inktray.example/inktray/internal/child/program"
	"inktray.example/inktray/internal/texts"
)

// Version is set when the program is built.
var Version = "development"

// The exit codes.
const (
	exitFailure = 1 // something failed
	exitUsage   = 2 // the command was not understood
	exitSignIn  = 3 // not signed in, or not allowed
	exitInvalid = 4 // what was given is not right
	exitMissing = 5 // there is no such thing
	exitReach   = 6 // the service is not reached
	exitPending = 7 // apply --preview: there are changes to make
)

// Main runs a command and returns the program's exit code.
func Main(args []string, in io.Reader, out, errs io.Writer) int {
	child.Main() // reads hostile contents, if that is what it was started for
	child.Use(program.Compressed())
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, stop) // a second signal ends the program at once
	c := &command{in: in, out: &clean{to: out}, errs: &clean{to: errs}}
	c.useLanguage()
	root := c.root()
	c.speakHelp(root, args)
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(c.out)
	root.SetErr(c.errs)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return 0
	}
	code := exitFailure
	var told *exitError
	var p *problem
	var reach *url.Error
	var untrusted *tls.CertificateVerificationError
	var usage usageError
	switch {
	case errors.As(err, &told):
		code = told.code
	case errors.As(err, &p):
		switch {
		case p.Status == 401 || p.Status == 403:
			code = exitSignIn
		case p.Status == 404:
			code = exitMissing
		case p.Status == 409 || p.Status == 412 || p.Status == 422:
			code = exitInvalid
		}
	case errors.As(err, &usage):
		code = exitUsage
	case errors.As(err, &untrusted):
		code = exitReach
		err = fmt.Errorf("the certificate of %s is not trusted (%w); if an authority of your office has signed it, name its "+
			"certificate with --authority", c.service, untrusted.Err)
	case errors.As(err, &reach):
		code = exitReach
		err = fmt.Errorf("no Ink Tray answers at %s: start it with inktray serve, or name another with --service", c.service)
	}
	switch {
	case err.Error() == "":
	case c.format == "json" || asksForJSON(args):
		c.tellJSON(err, code)
	default:
		fmt.Fprintln(c.errs, "inktray: "+c.wrong(err))
	}
	return code
}

// asksForJSON says whether JSON is asked for in a command that was not understood.
func asksForJSON(args []string) bool {
	for i, a := range args {
		switch a {
		case "--":
			return false
		case "--output=json", "-ojson", "-o=json":
			return true
		case "--output", "-o":
			return i+1 < len(args) && args[i+1] == "json"
		}
	}
	return false
}

// failure is an error as JSON: problem details (RFC 9457) with the exit code.
type failure struct {
	Type     string                 `json:"type"`
	Title    string                 `json:"title"`
	Status   int                    `json:"status,omitempty"` // of the service's answer
	Detail   string                 `json:"detail"`
	Advice   *string                `json:"advice,omitempty"`
	Problems *[]client.FieldProblem `json:"problems,omitempty"`
	Request  *string                `json:"request,omitempty"`
	ExitCode int                    `json:"exit_code"`
}

// kinds are the kinds of failures that are not the service's, by their exit codes.
var kinds = map[int]string{exitFailure: "failed", exitUsage: "usage", exitSignIn: "not-signed-in",
	exitInvalid: "invalid", exitMissing: "not-found", exitReach: "not-reached", exitPending: "changes-pending"}

// tellJSON writes an error as JSON to where errors go.
func (c *command) tellJSON(err error, code int) {
	f := failure{Type: "urn:inktray:problem:" + kinds[code], Title: "The command failed",
		Detail: c.wrong(err), ExitCode: code}
	var p *problem
	if errors.As(err, &p) {
		f = failure{p.Type, p.Title, p.Status, p.Detail, p.Advice, p.Problems, p.Request, code}
	}
	if errs, ok := c.errs.(*clean); ok {
		errs.json = true
	}
	e := json.NewEncoder(c.errs)
	e.SetEscapeHTML(false)
	if err := e.Encode(f); err != nil {
		fmt.Fprintln(c.errs, "inktray: "+inWords(err))
	}
}

type usageError struct{ error }

// exitError ends the program with a code of its own; its text may be empty.
type exitError struct {
	code int
	text string
}

func (e *exitError) Error() string { return e.text }

// command is what all commands share.
type command struct {
	in        io.Reader
	out, errs io.Writer
	service   string
	format    string
	authority string // file with the certificate of an authority that is trusted, too
	at        string // the other machine of the office that carries the command out; "" for none
	piped     bool   // standard input was read
	quiet     bool   // nothing is printed but errors, and JSON where it is asked for
	language  string // of the person, as in Accept-Language; "" for none
	texts     *texts.Catalogue
	spoken    map[*string]bool // texts of the help that are in the language of the person already
}

func (c *command) root() *cobra.Command {
	root := &cobra.Command{
		Use: "inktray", Short: "Files the attachments of incoming mail into named folders, by rules",
		Long: "Ink Tray watches mailboxes, finds the messages that rules are for, and files their attachments into dated, " +
			"named folders.\n\n" +
			"Exit codes: 0 done, 1 failed, 2 not understood, 3 not signed in or not allowed, 4 not right as given, 5 no such " +
			"thing, 6 no service reached, 7 changes to make (apply --preview).\n\n" +
			"Where a file is read, - is standard input.",
		SilenceErrors: true, SilenceUsage: true, Version: Version,
		PersistentPreRunE: func(*cobra.Command, []string) error {
			if c.format != "table" && c.format != "json" {
				return usageError{fmt.Errorf("--output is table or json, not %q", c.format)}
			}
			if out, ok := c.out.(*clean); ok {
				out.json = c.format == "json"
			}
			return nil
		},
	}
	root.SetFlagErrorFunc(wrongOption)
	service := os.Getenv("INKTRAY_SERVICE")
	if service == "" {
		service = "http://127.0.0.1:8025"
	}
	root.PersistentFlags().StringVar(&c.service, "service", service, "address of the service; also INKTRAY_SERVICE")
	root.PersistentFlags().StringVar(&c.authority, "authority", os.Getenv("INKTRAY_AUTHORITY"),
		"file with an authority's certificate, PEM, that is trusted for the service beside the machine's own; "+
			"also INKTRAY_AUTHORITY")
	root.PersistentFlags().StringVar(&c.at, "at", "",
		"let another machine of the office carry the command out, by its name (inktray machines list)")
	root.PersistentFlags().BoolVarP(&c.quiet, "quiet", "q", false,
		"print no tables and no confirmations; errors, files and JSON still come")
	root.PersistentFlags().StringVarP(&c.format, "output", "o", "table", "table for people, json for programs")
	running, people, rules, mail := serviceCommands{c}, peopleCommands{c}, ruleCommands{c}, mailCommands{c}
	book, topics, history, register := bookCommands{c}, topicCommands{c}, historyCommands{c}, registerCommands{c}
	signIn := signInCommands{c}
	root.AddCommand(running.serve(), running.standby(), running.replica(), running.demo(), signIn.signIn(),
		signIn.signOut(), mailboxCommands{c}.mailboxes(),
		machineCommands{c}.machines(),
		cabinetCommands{c}.cabinets(), rules.rules(), book.correspondents(), topics.topics(), topics.trust(), topics.scans(),
		book.tables(),
		history.passes(), register.register(), register.erase(), history.tray(), people.people(), people.groups(),
		people.keys(), people.password(), doorCommands{c}.secondFactor(), doorCommands{c}.signInRules(),
		people.audit(), people.outgoing(), people.addressees(), people.alarms(),
		people.limits(), backupCommands{c}.backup(), backupCommands{c}.restore(), backupCommands{c}.restored(),
		running.records(), people.metrics(), mail.messages(), applyCommands{c}.apply(),
		mail.follow(), c.health(), checkupCommands{c}.doctor(), checkupCommands{c}.supportBundle(),
		checkupCommands{c}.manual(), c.version())
	exemplify(root)
	completes(c, root)
	takeFormer(root)
	strict(root)
	return root
}

// problem is what the service says is wrong.
type problem client.Problem

func (p *problem) Error() string { return p.in(nil) }

// in is what is wrong, with the words around what the service says in a language. The service has answered in it.
func (p *problem) in(language *texts.Catalogue) string {
	var b strings.Builder
	b.WriteString(p.Detail)
	if p.Problems != nil &&
		(len(*p.Problems) > 1 || len(*p.Problems) == 1 && !strings.Contains(p.Detail, (*p.Problems)[0].Text)) {
		b.Reset()
		b.WriteString(language.Say("the service did not accept this:"))
		for _, f := range *p.Problems {
			fmt.Fprintf(&b, "\n  %s: %s", f.Place, f.Text)
			if f.Meant != nil {
				fmt.Fprintf(&b, language.Format(" (did you mean “%s”?)"), *f.Meant)
			}
		}
		return b.String()
	}
	if p.Problems != nil && len(*p.Problems) == 1 && (*p.Problems)[0].Place != "" &&
		!strings.HasPrefix(p.Detail, (*p.Problems)[0].Place) {
		text := (*p.Problems)[0].Place + ": " + p.Detail
		b.Reset()
		b.WriteString(text)
	}
	if p.Advice != nil {
		b.WriteString(". " + *p.Advice)
	}
	if p.Request != nil {
		fmt.Fprintf(&b, language.Format(" It is the request %s."), *p.Request)
	}
	return b.String()
}

// kind is what kind of problem it is: the end of its type.
func (p *problem) kind() string { return p.Type[strings.LastIndex(p.Type, ":")+1:] }

// call turns an answer of the generated client into its value.
func call[T any](response *http.Response, err error) (T, error) {
	var value T
	if err != nil {
		return value, err
	}
	defer response.Body.Close()
	if response.StatusCode >= 300 {
		p := &problem{}
		if err := json.NewDecoder(response.Body).Decode(p); err != nil || p.Detail == "" {
			return value, fmt.Errorf("the service answers %s", response.Status)
		}
		return value, p
	}
	if response.StatusCode == http.StatusNoContent {
		return value, nil
	}
	err = json.NewDecoder(response.Body).Decode(&value)
	return value, err
}

type nothing struct{}

// do is a command that speaks to the service.
func (c *command) do(f func(ctx context.Context, api *client.Client, args []string) error) func(*cobra.Command,
	[]string) error {
	return func(cmd *cobra.Command, args []string) error {
		api, err := c.connect()
		if err != nil {
			return err
		}
		return f(cmd.Context(), api, args)
	}
}

// secret reads a secret from a file, the environment or a prompt, never from an
// argument, where every user of the machine could read it.
func (c *command) secret(file, env, prompt string) (string, error) {
	if file != "" {
		data, err := c.readFile(file)
		return strings.TrimRight(string(data), "\r\n"), err
	}
	if s := os.Getenv(env); s != "" {
		return s, nil
	}
	if f, ok := c.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(c.errs, c.texts.Say(prompt)+": ")
		data, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(c.errs)
		return string(data), err
	}
	c.piped = true
	data, err := io.ReadAll(io.LimitReader(c.in, 64<<10))
	if err == nil && len(data) == 0 {
		err = usageError{fmt.Errorf("a secret is missing: give it in %s, in a file, or at the prompt", env)}
	}
	line, _, _ := strings.Cut(string(data), "\n")
	return strings.TrimRight(line, "\r"), err
}

func (c *command) health() *cobra.Command {
	return &cobra.Command{
		Use: "health", Short: "Say whether the service is alive and can do its work", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			h, err := call[client.Health](api.GetReady(ctx))
			if err != nil {
				return err
			}
			return c.show(h, func() {
				c.printf("The service at %s is alive and %s.\n", c.service, h.Status)
				switch {
				case h.ChildrenCould == nil: // for administrators
				case len(*h.ChildrenCould) == 0:
					c.println("Processes that read attachments can open no other files, connections or programs.")
				default:
					c.printf("This system does not confine the processes that read attachments fully: they could %s. "+
						"docs/security.md says which kernel does.\n", strings.Join(*h.ChildrenCould, ", "))
				}
			})
		}),
	}
}

// builtOn is the day of the change that the program was built from; "" where that is not known.
func builtOn() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return ""
	}
	for _, s := range info.Settings {
		if day, _, isTime := strings.Cut(s.Value, "T"); s.Key == "vcs.time" && isTime {
			return day
		}
	}
	return ""
}

func (c *command) version() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Say which version this is, and which one the service has", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			v, err := call[client.Version](api.GetVersion(ctx))
			date := builtOn()
			if c.format == "json" {
				return c.json(map[string]string{"program": Version, "date": date, "go": runtime.Version(),
					"system": runtime.GOOS + "/" + runtime.GOARCH, "service": v.Version})
			}
			of := ""
			if date != "" {
				of = " of " + date
			}
			c.printf("program  %s%s, %s for %s/%s\n", Version, of, runtime.Version(), runtime.GOOS, runtime.GOARCH)
			if err != nil {
				c.printf("service  none at %s\n", c.service)
				return nil
			}
			c.printf("service  %s at %s\n", v.Version, c.service)
			return nil
		}),
	}
}
