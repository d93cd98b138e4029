package cli

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"go.yaml.in/yaml/v3"

	"inktray.example/inktray/internal/core/pattern"
)

// Options of serve stand on the command line, in the environment, or in a file: the first of these that has one counts.
// Each option has one name: --time-zone, INKTRAY_TIME_ZONE, and "time-zone:" in the file.

// notSettings are options that say what to do, and not how the service is set up.
var notSettings = []string{"help", "check", "config", "version"}

// variable is the environment's name of an option.
func variable(option string) string {
	return "INKTRAY_" + strings.ToUpper(strings.ReplaceAll(option, "-", "_"))
}

// serveSettings are the options of a command that can be set in a file.
func serveSettings(cmd *cobra.Command) (all []*pflag.Flag) {
	cmd.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) {
		if !slices.Contains(notSettings, f.Name) {
			all = append(all, f)
		}
	})
	return all
}

// configure sets options from the environment and from a file, "" for none, where the command line does not name them.
// from says where each has its value from.
func configure(cmd *cobra.Command, file string) (from map[string]string, err error) {
	kept := map[string][]string{}
	if file != "" {
		if kept, err = readConfiguration(file, serveSettings(cmd)); err != nil {
			return nil, err
		}
	}
	from = map[string]string{}
	for _, f := range serveSettings(cmd) {
		var values []string
		switch given, set := os.LookupEnv(variable(f.Name)); {
		case f.Changed:
			from[f.Name] = "the command line"
			continue
		case set && given != "":
			from[f.Name], values = variable(f.Name), []string{given}
		case kept[f.Name] != nil:
			from[f.Name], values = file, kept[f.Name]
		default:
			continue
		}
		for _, v := range values {
			if err := cmd.Flags().Set(f.Name, v); err != nil {
				return nil, usageError{fmt.Errorf("%s, from %s: %w", f.Name, from[f.Name], err)}
			}
		}
	}
	return from, nil
}

// readConfiguration reads a file with options. What it does not know is an error.
func readConfiguration(file string, settings []*pflag.Flag) (map[string][]string, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, &exitError{exitUsage, fmt.Sprintf("the configuration cannot be read: %s", inWords(err))}
	}
	var document map[string]yaml.Node
	if err := yaml.Unmarshal(data, &document); err != nil {
		return nil, &exitError{exitUsage, fmt.Sprintf("the configuration %s is not YAML of options and values: %v", file,
			err)}
	}
	var names []string
	for _, f := range settings {
		names = append(names, f.Name)
	}
	kept := map[string][]string{}
	var wrong []error
	for name, node := range document {
		switch {
		case !slices.Contains(names, name):
			text := fmt.Sprintf("%s, line %d: there is no option “%s”", file, node.Line, name)
			if meant := pattern.Nearest(name, names); meant != "" {
				text += fmt.Sprintf("; did you mean “%s”?", meant)
			}
			wrong = append(wrong, errors.New(text))
		case node.Kind == yaml.ScalarNode:
			kept[name] = []string{node.Value}
		case node.Kind == yaml.SequenceNode && !slices.ContainsFunc(node.Content,
			func(n *yaml.Node) bool { return n.Kind != yaml.ScalarNode }):
			kept[name] = []string{}
			for _, n := range node.Content {
				kept[name] = append(kept[name], n.Value)
			}
		default:
			wrong = append(wrong, fmt.Errorf("%s, line %d: “%s” has one value, or a list of them", file, node.Line, name))
		}
	}
	if len(wrong) > 0 {
		slices.SortFunc(wrong, func(a, b error) int { return strings.Compare(a.Error(), b.Error()) })
		return nil, &exitError{exitUsage, errors.Join(wrong...).Error()}
	}
	return kept, nil
}

// configured shows what would be used, and from where.
func (c serviceCommands) configured(cmd *cobra.Command, from map[string]string) error {
	type row struct {
		Option string `json:"option"`
		Value  string `json:"value"`
		From   string `json:"from"`
	}
	var all []row
	for _, f := range serveSettings(cmd) {
		source := from[f.Name]
		if source == "" {
			source = "default"
		}
		all = append(all, row{f.Name, f.Value.String(), source})
	}
	return c.show(all, func() {
		var rows [][]string
		for _, r := range all {
			rows = append(rows, []string{r.Option, r.Value, r.From})
		}
		c.table([]string{"OPTION", "VALUE", "FROM"}, rows)
	})
}
