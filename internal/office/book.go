package office

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"inktray.example/inktray/internal/core/correspondent"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/store"
)

// LoadBook reads correspondents and tables again after a change.
func (o *Office) LoadBook(ctx context.Context) error {
	ctx = context.WithoutCancel(ctx) // what was saved is taken up in any case
	return o.change(func(next *Snapshot) error {
		rows, err := o.Store.Book.All(ctx)
		if err != nil {
			return err
		}
		var all []correspondent.Correspondent
		next.passwords = map[string][]string{}
		for i := range rows {
			c := &rows[i]
			all = append(all, c.Entry())
			if next.passwords[c.Name], err = o.Store.Book.ArchivePasswords(c); err != nil {
				return fmt.Errorf("the archive passwords of %s: %w", c.Name, err)
			}
		}
		next.Book = correspondent.New(all)
		tables, err := o.Store.Book.Tables(ctx)
		if err != nil {
			return err
		}
		next.lookups = map[string]map[string]string{}
		for _, t := range tables {
			rows := map[string]string{}
			for _, row := range t.Rows {
				rows[Key(row[0])] = row[1]
			}
			next.lookups[Key(t.Name)] = rows
		}
		return nil
	})
}

// Key is a name as names are compared: in lower case, with single spaces.
func Key(s string) string { return strings.ToLower(strings.Join(strings.Fields(s), " ")) }

// fieldOrder is the order in which mistakes of a correspondent are told.
var fieldOrder = []string{"name", "addresses", "domains", "groups"}

// SaveCorrespondent checks and keeps somebody. nil passwords keep those that are
// there. The error, if any, may be rule.Problems.
func (o *Office) SaveCorrespondent(ctx context.Context, c *store.Correspondent, passwords []string, revision int,
	actor string) error {
	was := ""
	if c.ID != "" {
		row, err := o.Store.Book.ByID(ctx, c.ID)
		if err != nil {
			return err
		}
		was = row.Name
	}
	entry := c.Entry()
	entry.Addresses, entry.Domains, entry.Groups = slices.Clone(c.Addresses), slices.Clone(c.Domains),
		slices.Clone(c.Groups)
	wrong := o.Settings().Book.Check(&entry, was)
	var problems rule.Problems
	for _, field := range fieldOrder {
		if text := wrong[field]; text != "" {
			problems = append(problems, rule.Problem{Place: field, Text: text})
		}
	}
	for _, p := range passwords {
		if p == "" || len(p) > 200 {
			problems = append(problems, rule.Problem{Place: "passwords", Text: "a password is empty or longer than 200 " +
				"characters"})
		}
	}
	if was != "" && !strings.EqualFold(was, entry.Name) {
		used, err := o.usedInRules(ctx, was)
		if err != nil {
			return err
		}
		if len(used) > 0 {
			problems = append(problems, rule.Problem{Place: "name", Text: fmt.Sprintf("the rule “%s” names “%s”; change the "+
				"rule first", strings.Join(used, "”, “"), was)})
		}
	}
	if len(problems) > 0 {
		return problems
	}
	c.Name, c.Addresses, c.Domains, c.Groups = entry.Name, orEmpty(entry.Addresses), orEmpty(entry.Domains),
		orEmpty(entry.Groups)
	if err := o.Store.Book.Save(ctx, c, passwords, revision, o.Clock().UTC(), actor); err != nil {
		return err
	}
	return o.LoadBook(ctx)
}

func orEmpty(list []string) []string { return append([]string{}, list...) }

// usedInRules lists the rules that name a correspondent or a group.
func (o *Office) usedInRules(ctx context.Context, name string) ([]string, error) {
	return o.UsedBy(ctx, func(r *rule.Rule) bool {
		return slices.ContainsFunc(r.Correspondents(),
			func(n string) bool { return strings.EqualFold(strings.TrimSpace(n), name) })
	})
}

// RemoveCorrespondent forgets somebody that no rule names.
func (o *Office) RemoveCorrespondent(ctx context.Context, id, actor string) error {
	c, err := o.Store.Book.ByID(ctx, id)
	if err != nil {
		return err
	}
	used, err := o.usedInRules(ctx, c.Name)
	if err != nil {
		return err
	}
	if len(used) > 0 {
		return rule.Problems{
			{Place: "name",
				Text: fmt.Sprintf("the rule “%s” names “%s”; change the rule first", strings.Join(used, "”, “"), c.Name)}}
	}
	if err := o.Store.Book.Remove(ctx, id, actor); err != nil {
		return err
	}
	return o.LoadBook(ctx)
}

// mostRows bounds a table.
const mostRows = 10_000

// SaveLookupTable checks and keeps a table. The error, if any, may be rule.Problems.
func (o *Office) SaveLookupTable(ctx context.Context, t *store.LookupTable, revision int, actor string) error {
	t.Name = strings.TrimSpace(t.Name)
	var problems rule.Problems
	if t.Name == "" || len(t.Name) > 100 || strings.ContainsAny(t.Name, " \"<>()") {
		problems = append(problems, rule.Problem{Place: "name", Text: "a table's name is one word, as patterns name it: " +
			"lookup stations of (file.stem)"})
	}
	if len(t.Rows) > mostRows {
		problems = append(problems,
			rule.Problem{Place: "rows", Text: fmt.Sprintf("the table has more than %d rows", mostRows)})
	}
	seen := map[string]bool{}
	rows := [][2]string{}
	for _, row := range t.Rows {
		row = [2]string{strings.TrimSpace(row[0]), strings.TrimSpace(row[1])}
		key := Key(row[0])
		switch {
		case key == "" && row[1] == "":
			continue
		case key == "" || row[1] == "":
			problems = append(problems,
				rule.Problem{Place: "rows", Text: fmt.Sprintf("the row %q, %q is not whole", row[0], row[1])})
		case seen[key]:
			problems = append(problems, rule.Problem{Place: "rows", Text: fmt.Sprintf("%q stands in the table twice", row[0])})
		}
		seen[key] = true
		rows = append(rows, row)
	}
	if len(problems) > 0 {
		return problems[:1]
	}
	t.Rows = rows
	if t.ID != "" {
		was, err := o.Store.Book.TableByID(ctx, t.ID)
		if err != nil {
			return err
		}
		if !strings.EqualFold(was.Name, t.Name) {
			if err := o.tableInUse(ctx, was.Name); err != nil {
				return err
			}
		}
	}
	err := o.Store.Book.SaveTable(ctx, t, revision, o.Clock().UTC(), actor)
	if errors.Is(err, store.ErrTaken) {
		return rule.Problems{{Place: "name", Text: fmt.Sprintf("there is a table called “%s” already", t.Name)}}
	}
	if err != nil {
		return err
	}
	return o.LoadBook(ctx)
}

// RemoveLookupTable forgets a table that no rule names.
func (o *Office) RemoveLookupTable(ctx context.Context, id, actor string) error {
	t, err := o.Store.Book.TableByID(ctx, id)
	if err != nil {
		return err
	}
	if err := o.tableInUse(ctx, t.Name); err != nil {
		return err
	}
	if err := o.Store.Book.RemoveTable(ctx, id, actor); err != nil {
		return err
	}
	return o.LoadBook(ctx)
}

func (o *Office) tableInUse(ctx context.Context, name string) error {
	used, err := o.UsedBy(ctx, func(r *rule.Rule) bool {
		c, err := rule.Compile(r, 0, o.Zone)
		return err == nil && slices.ContainsFunc(c.Tables(), func(u rule.TableUse) bool { return Key(u.Table) == Key(name) })
	})
	if err != nil || len(used) == 0 {
		return err
	}
	return rule.Problems{
		{Place: "name",
			Text: fmt.Sprintf("the rule “%s” looks up in “%s”; change the rule first", strings.Join(used, "”, “"), name)}}
}

// checkBook checks that the correspondents, groups and tables that a rule names exist.
func (o *Office) checkBook(c *rule.Compiled, document *rule.Rule) (problems rule.Problems) {
	settings := o.Settings()
	book := settings.Book
	var tables []string
	for name := range settings.lookups {
		tables = append(tables, name)
	}
	slices.Sort(tables)
	topics := o.Topics.Names()
	for _, use := range document.Topics() {
		problems = append(problems, missing(use.Place, "topic", use.Name, topics)...)
	}
	names, groups := book.Names()
	for _, use := range document.CorrespondentUses() {
		if !book.Has(use.Name) {
			problems = append(problems, missing(use.Place, "correspondent or group", use.Name, slices.Concat(names, groups))...)
		}
	}
	if c != nil {
		for _, use := range c.Tables() {
			problems = append(problems, missing(use.Place, "table", use.Table, tables)...)
		}
	}
	return problems
}
