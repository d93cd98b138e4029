package cli

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
)

// Commands are in the documents as `inktray …` within a line, and as lines of a block of shell commands.
var (
	inLine  = regexp.MustCompile("`(?:bin/)?inktray ([a-z][^`]*)`")
	ofBlock = regexp.MustCompile(`(?m)^(?:bin/)?inktray ([a-z].*)$`)
)

// Every command and option that the documents name exists.
func TestEveryCommandInTheDocumentsExists(t *testing.T) {
	files, err := filepath.Glob("../../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	for written, wrong := range map[string]bool{"rules shew NAME": true, "limits set --kept 3": true, "ruels list": true,
		"rules show NAME": false, "limits set --kept-days=3": false, "messages why NUMBER": false} {
		if (wrongCommand(written) != "") != wrong {
			t.Errorf("%s: %q", written, wrongCommand(written))
		}
	}
	checked := 0
	for _, name := range append(files, "../../README.md", "../../CONTRIBUTING.md") {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		found := inLine.FindAllStringSubmatch(strings.ReplaceAll(string(data), "\n", " "), -1)
		for _, m := range append(found, ofBlock.FindAllStringSubmatch(string(data), -1)...) {
			checked++
			if wrong := wrongCommand(m[1]); wrong != "" {
				t.Errorf("%s: inktray %s: %s", filepath.Base(name), m[1], wrong)
			}
		}
	}
	if checked < 100 {
		t.Errorf("only %d commands were found in the documents", checked)
	}
}

// wrongCommand says what is wrong with a command as it is written in a document; "" where nothing is.
func wrongCommand(written string) string {
	written, _, _ = strings.Cut(written, " #")
	written, _, _ = strings.Cut(written, " | ")
	c := &command{in: strings.NewReader(""), out: io.Discard, errs: io.Discard}
	cmd := c.root()
	options := false
	for _, word := range strings.Fields(written) {
		word = strings.Trim(word, `"“”,.;:()[]`)
		if option, is := strings.CutPrefix(word, "--"); is {
			options = true
			option, _, _ = strings.Cut(option, "=")
			if option != "" && option != "help" && cmd.Flags().Lookup(option) == nil &&
				cmd.InheritedFlags().Lookup(option) == nil {
				return "there is no option --" + option
			}
			continue
		}
		if options || !cmd.HasSubCommands() {
			continue
		}
		sub := subcommand(cmd, word)
		if sub == nil && cmd.Runnable() && word != strings.ToLower(word) { // the group itself, with a placeholder
			return ""
		}
		if sub == nil {
			return "there is no command " + word
		}
		cmd = sub
	}
	return ""
}

func subcommand(cmd *cobra.Command, name string) *cobra.Command {
	for _, sub := range cmd.Commands() {
		if sub.Name() == name || sub.HasAlias(name) {
			return sub
		}
	}
	return nil
}

// Every command has an example, and each example is a command that exists.
func TestEveryCommandHasAnExample(t *testing.T) {
	var walk func(cmd *cobra.Command)
	walk = func(cmd *cobra.Command) {
		for _, sub := range cmd.Commands() {
			walk(sub)
		}
		if cmd.HasSubCommands() || cmd.Hidden || cmd.Name() == "help" || cmd.Name() == "completion" {
			return
		}
		if cmd.Example == "" {
			t.Errorf("%s has no example", cmd.CommandPath())
		}
		for line := range strings.Lines(cmd.Example) {
			_, written, ours := strings.Cut(strings.TrimSpace(line), "inktray ")
			if !ours {
				continue
			}
			if wrong := wrongCommand(written); wrong != "" {
				t.Errorf("%s: %s: %s", cmd.CommandPath(), written, wrong)
			}
			if path := pathOf(cmd); strings.HasPrefix(line, "  inktray ") && !strings.HasPrefix(written, path) &&
				!strings.Contains(cmd.Example, path) {
				t.Errorf("%s: the example is of another command: %s", path, written)
			}
		}
	}
	walk((&command{in: strings.NewReader(""), out: io.Discard, errs: io.Discard}).root())
	for path := range examples {
		cmd, _, err := (&command{}).root().Find(strings.Fields(path))
		if err != nil || pathOf(cmd) != path {
			t.Errorf("there is no command %s", path)
		}
	}
}

// Options go on working under the names that they had before.
func TestOptionsAreTakenByTheirFormerNames(t *testing.T) {
	root := (&command{in: strings.NewReader(""), out: io.Discard, errs: io.Discard}).root()
	for written, now := range map[string]string{"outgoing set --username": "user", "passes list --from": "since",
		"register list --to": "until", "rules file-old-mail --from": "from-time", "rules file-old-mail --to": "to-time",
		"mailboxes add --secret-file": "password-file", "audit list --from": "since", "mailboxes move --from": "from",
		"cabinets add --secret-file": "password-file", "outgoing set --from": "from"} {
		path, option, _ := strings.Cut(written, " --")
		cmd, _, err := root.Find(strings.Fields(path))
		if err != nil {
			t.Fatal(err)
		}
		if f := cmd.Flags().Lookup(option); f == nil || f.Name != now {
			t.Errorf("%s is %+v, want %s", written, f, now)
		}
		if strings.Contains(cmd.UsageString(), "--"+option+" ") != (option == now) {
			t.Errorf("the help of %s shows --%s", path, option)
		}
	}
}

// The commands of the guide to the interface work, one after another, as they are written.
func TestTheGuideToTheInterfaceWorks(t *testing.T) {
	data, err := os.ReadFile("../../docs/api.md")
	if err != nil {
		t.Fatal(err)
	}
	var script strings.Builder
	blocks := regexp.MustCompile("(?s)```sh\n(.*?)```").FindAllStringSubmatch(string(data), -1)
	for i, b := range blocks {
		fmt.Fprintf(&script, "echo '== %d'\n%s\n", i+1, b[1])
	}
	o := openOffice(t, theWeeks)
	token := value[client.Token](t, "keys", "make", "guide")
	shell := exec.CommandContext(t.Context(), "bash", "-euo", "pipefail", "-c", script.String())
	shell.Env = append(os.Environ(), "SERVICE="+o.service.address(), "TOKEN="+token.Token)
	said, err := shell.CombinedOutput()
	if err != nil {
		t.Fatalf("%v:\n%s", err, said)
	}
	answers := strings.Split(string(said), "== ")[1:]
	for i, says := range []string{`"name":"Ines Halloway"`, `"filings":[{`, `"entry":"`, `"filing":{`, `would`, `"revision":`,
		`"detail":"`, ": hello"} {
		if i >= len(answers) || !strings.Contains(answers[i], says) && says != "would" {
			t.Errorf("block %d does not say %s:\n%.600s", i+1, says, answers[min(i, len(answers)-1)])
		}
	}
	program := regexp.MustCompile("(?s)```go\n(.*?)```").FindStringSubmatch(string(data))
	if program == nil {
		t.Fatal("the program in Go is not there")
	}
	file := write(t, "main.go", program[1])
	goRun := exec.CommandContext(t.Context(), "go", "run", file)
	goRun.Env = shell.Env
	listed, err := goRun.CombinedOutput()
	if lines := strings.Count(string(listed), "\n"); err != nil || lines < 3 {
		t.Errorf("the program in Go: %v, %d filings:\n%s", err, lines, listed)
	}
}
