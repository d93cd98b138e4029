package register

import (
	"fmt"
	"slices"
	"strings"
)

// mostFiles is how many files of a message have a column of their own.
const mostFiles = 20

// FileOf is a file of a message, with the address that opens it, "" where there is none.
type FileOf struct{ Name, URL string }

// Together makes one line of the lines of a message: with all its files, their sizes added
// up, and every folder, rule and remark that one of them has. Numbers that came to nothing
// are left out; where all did, the first one represents the message.
func Together(lines []Line) Line {
	all := slices.DeleteFunc(slices.Clone(lines), func(l Line) bool { return l.State == Void || l.File == "" })
	if len(all) == 0 {
		all = lines[:1]
	}
	out := all[0]
	out.Size = 0
	for i := range all {
		l := &all[i]
		out.Size += l.Size
		if l.Filed.After(out.Filed) {
			out.Filed = l.Filed
		}
		if l.File != "" {
			out.Files = append(out.Files, FileOf{l.File, l.Place.URL})
		}
	}
	each := func(value func(l *Line) string) string {
		var values []string
		for i := range all {
			if v := value(&all[i]); v != "" && !slices.Contains(values, v) {
				values = append(values, v)
			}
		}
		return strings.Join(values, "\n")
	}
	out.numbers = strings.ReplaceAll(each(func(l *Line) string { return l.Number.String() }), "\n", ", ")
	out.states = strings.ReplaceAll(each(func(l *Line) string { return l.State.String() }), "\n", ", ")
	out.Folder = each(func(l *Line) string { return l.Folder })
	out.Cabinet = each(func(l *Line) string { return l.Cabinet })
	out.Rule = each(func(l *Line) string { return l.Rule })
	out.Kind = each(func(l *Line) string { return l.Kind })
	out.Checksum = each(func(l *Line) string { return l.Checksum })
	out.Remark = each(func(l *Line) string { return l.Remark })
	out.Notes = each(func(l *Line) string { return l.Notes })
	out.Place.Shown = each(func(l *Line) string { return l.Place.Shown })
	return out
}

// ByMessage gives the columns of a table with one line a message, of which the one with the
// most files has so many: the column of the file becomes one for each, with its link.
func ByMessage(columns []Column, files int) []Column {
	var out []Column
	for _, c := range columns {
		if c.Name != "file" {
			out = append(out, c)
			continue
		}
		n := max(1, min(files, mostFiles))
		for i := range n {
			one := c
			if one.Title = fmt.Sprintf("File %d", i+1); n == 1 {
				one.Title = c.Title
			}
			one.value = func(l *Line) any {
				switch {
				case i >= len(l.Files):
					return ""
				case i == mostFiles-1 && len(l.Files) > mostFiles:
					var rest []string
					for _, f := range l.Files[i:] {
						rest = append(rest, f.Name)
					}
					return strings.Join(rest, "\n")
				}
				return link{l.Files[i].Name, l.Files[i].URL}
			}
			out = append(out, one)
		}
	}
	return out
}
