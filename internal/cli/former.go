package cli

import (
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// formerOptions are names that options had before, each with the name that it has now, and the command, where it is
// only one. Scripts that use them go on working; help and completion show the present names only.
var formerOptions = [][3]string{{"username", "user"}, {"secret-file", "password-file"}, {"from", "from-time"},
	{"to", "to-time"}, {"from", "since"}, {"to", "until"}, {"name", "user", "sign-in"}}

// takeFormer lets commands take options by their former names, where no other option has the name.
func takeFormer(cmd *cobra.Command) {
	for _, sub := range cmd.Commands() {
		takeFormer(sub)
	}
	names := map[string]string{}
	for _, one := range formerOptions {
		former, now, only := one[0], one[1], one[2]
		if only != "" && only != pathOf(cmd) {
			continue
		}
		if cmd.Flags().Lookup(now) != nil && cmd.Flags().Lookup(former) == nil && names[former] == "" {
			names[former] = now
		}
	}
	if len(names) == 0 {
		return
	}
	cmd.Flags().SetNormalizeFunc(func(_ *pflag.FlagSet, name string) pflag.NormalizedName {
		if now, ok := names[name]; ok {
			name = now
		}
		return pflag.NormalizedName(name)
	})
}
