package local

import (
	"fmt"
	"io/fs"
	"os/user"
	"strconv"
	"strings"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/disk"
)

// ParseAccess reads a mode in octal, such as 0640, and an owner as user, user:group
// or :group, each by name or number. Empty ones say nothing.
func ParseAccess(mode, owner string) (disk.Access, error) {
	a := disk.Access{UID: -1, GID: -1}
	if mode != "" {
		n, err := strconv.ParseUint(mode, 8, 32)
		if err != nil || n == 0 || n > 0o777 || n&0o600 != 0o600 {
			return a, &cabinet.Error{Problem: fmt.Sprintf("%q is not a mode of files", mode),
				Advice: "Write it in octal with reading and writing for the owner, such as 0640.", Lasting: true}
		}
		a.Mode = fs.FileMode(n)
	}
	name, group, _ := strings.Cut(owner, ":")
	var err error
	if name != "" {
		if a.UID, err = strconv.Atoi(name); err != nil {
			found, err := user.Lookup(name)
			if err != nil {
				return a, &cabinet.Error{Problem: fmt.Sprintf("this machine knows no user %q", name), Lasting: true}
			}
			if a.UID, err = strconv.Atoi(found.Uid); err != nil {
				return a, &cabinet.Error{Problem: "owners of files cannot be set on this system", Lasting: true}
			}
		}
	}
	if group != "" {
		if a.GID, err = strconv.Atoi(group); err != nil {
			found, err := user.LookupGroup(group)
			if err != nil {
				return a, &cabinet.Error{Problem: fmt.Sprintf("this machine knows no group %q", group), Lasting: true}
			}
			if a.GID, err = strconv.Atoi(found.Gid); err != nil {
				return a, &cabinet.Error{Problem: "owners of files cannot be set on this system", Lasting: true}
			}
		}
	}
	a.Owned = a.UID >= 0 || a.GID >= 0
	return a, nil
}
