package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"regexp"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"inktray.example/inktray/internal/core/pattern"
)

// placeholder is a word of a usage line that represents an argument.
var placeholder = regexp.MustCompile(`^\[?[A-Z|]+(\.\.\.)?\]?$`)

// strict lets what is misspelled or left out count as not understood, in sentences.
func strict(cmd *cobra.Command) {
	if cmd.HasSubCommands() && !cmd.Runnable() {
		cmd.DisableFlagsInUseLine = true
		cmd.RunE = func(cmd *cobra.Command, _ []string) error { return cmd.Help() }
	}
	if check := cmd.Args; check != nil || cmd.HasSubCommands() {
		cmd.Args = func(cmd *cobra.Command, args []string) error {
			switch {
			case check == nil && len(args) == 0, check != nil && check(cmd, args) == nil:
				return nil
			case cmd.HasSubCommands():
				return usageError{noSuchCommand(cmd, args[0])}
			}
			return usageError{wrongArguments(cmd, args)}
		}
	}
	for _, sub := range cmd.Commands() {
		strict(sub)
	}
}

// noSuchCommand says which command was probably meant.
func noSuchCommand(cmd *cobra.Command, written string) error {
	var names []string
	for _, sub := range cmd.Commands() {
		if sub.IsAvailableCommand() {
			names = append(append(names, sub.Name()), sub.Aliases...)
		}
	}
	text := fmt.Sprintf("there is no command “%s %s”", cmd.CommandPath(), written)
	if meant := pattern.Nearest(written, names); meant != "" {
		return fmt.Errorf("%s; did you mean “%s %s”?", text, cmd.CommandPath(), meant)
	}
	// Words of another order, such as "rules mailbox add", or a command of another group.
	var elsewhere []string
	for _, group := range cmd.Root().Commands() {
		for _, sub := range group.Commands() {
			if sub.Name() == written {
				elsewhere = append(elsewhere, sub.CommandPath())
			}
		}
	}
	if len(elsewhere) > 0 && len(elsewhere) <= 4 {
		return fmt.Errorf("%s; did you mean “%s”?", text, strings.Join(elsewhere, "” or “"))
	}
	return fmt.Errorf("%s; there are: %s", text, strings.Join(names, ", "))
}

// wrongArguments says what is missing or too much after a command.
func wrongArguments(cmd *cobra.Command, args []string) error {
	var wanted []string
	for _, word := range strings.Fields(cmd.Use)[1:] {
		if placeholder.MatchString(word) {
			wanted = append(wanted, word)
		}
	}
	needed := slices.IndexFunc(wanted, func(w string) bool { return strings.HasPrefix(w, "[") })
	if needed < 0 {
		needed = len(wanted)
	}
	if len(args) < needed {
		return fmt.Errorf("%s is missing: %s", strings.Join(wanted[len(args):needed], " and "), usageLine(cmd))
	}
	if len(wanted) == 0 {
		return fmt.Errorf("“%s” is too much here: %s takes nothing but options", args[0], cmd.CommandPath())
	}
	return fmt.Errorf("“%s” is too much here: %s. Put a name of several words in quotes",
		args[min(len(wanted), len(args)-1)], usageLine(cmd))
}

// usageLine is how a command is written.
func usageLine(cmd *cobra.Command) string {
	if cmd.HasParent() {
		return cmd.Parent().CommandPath() + " " + cmd.Use
	}
	return cmd.Use
}

// wrongOption says what is wrong with an option.
func wrongOption(cmd *cobra.Command, err error) error {
	var unknown *pflag.NotExistError
	var bare *pflag.ValueRequiredError
	var value *pflag.InvalidValueError
	switch {
	case errors.As(err, &unknown):
		name := unknown.GetSpecifiedName()
		if unknown.GetSpecifiedShortnames() != "" {
			return usageError{fmt.Errorf("there is no option “-%s”; see %s --help", name, cmd.CommandPath())}
		}
		var names []string
		cmd.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
		if meant := pattern.Nearest(name, names); meant != "" {
			return usageError{fmt.Errorf("%s has no option “--%s”; did you mean “--%s”?", cmd.CommandPath(), name, meant)}
		}
		return usageError{fmt.Errorf("%s has no option “--%s”; see %s --help", cmd.CommandPath(), name, cmd.CommandPath())}
	case errors.As(err, &bare):
		return usageError{fmt.Errorf("something is missing after “--%s”: %s", bare.GetSpecifiedName(), bare.GetFlag().Usage)}
	case errors.As(err, &value):
		kind := map[string]string{"int": "whole number", "int64": "whole number", "bool": "true or false",
			"duration": "time such as 30s or 5m", "float64": "number"}[value.GetFlag().Value.Type()]
		if kind == "" {
			return usageError{
				fmt.Errorf("“%s” cannot stand after “--%s”: %w", value.GetValue(), value.GetFlag().Name, errors.Unwrap(value))}
		}
		if kind == "true or false" {
			return usageError{
				fmt.Errorf("“%s” is neither true nor false, as --%s wants", value.GetValue(), value.GetFlag().Name)}
		}
		return usageError{fmt.Errorf("“%s” is no %s, as --%s wants", value.GetValue(), kind, value.GetFlag().Name)}
	}
	return usageError{err}
}

// inWords is an error's text, with what the system says of a file as a sentence.
func inWords(err error) string {
	text := err.Error()
	var file *fs.PathError
	if !errors.As(err, &file) {
		return text
	}
	says := ""
	switch {
	case errors.Is(file, fs.ErrNotExist):
		says = fmt.Sprintf("the file “%s” is not there", file.Path)
	case errors.Is(file, fs.ErrExist):
		says = fmt.Sprintf("“%s” is there already", file.Path)
	case errors.Is(file, fs.ErrPermission):
		says = fmt.Sprintf("the file “%s” may not be opened by you", file.Path)
	case errors.Is(file, syscall.EISDIR):
		says = fmt.Sprintf("“%s” is a folder, not a file", file.Path)
	case errors.Is(file, syscall.ENOTDIR):
		says = fmt.Sprintf("“%s”: there is a file where a folder is needed", file.Path)
	case errors.Is(file, syscall.ENOSPC):
		says = fmt.Sprintf("the disk is full: “%s” cannot be written", file.Path)
	case errors.Is(file, os.ErrDeadlineExceeded):
		says = fmt.Sprintf("“%s” does not answer", file.Path)
	default:
		return text
	}
	return strings.Replace(text, file.Error(), says, 1)
}
