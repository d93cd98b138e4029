// Package correspondent keeps the book of persons and firms with whom an office
// writes, each with its addresses and domains. Somebody is recognised by the
// address alone, never by a display name, which a sender can choose freely.
package correspondent

import (
	"fmt"
	"slices"
	"strings"

	"inktray.example/inktray/internal/core/mail"
)

// Correspondent is a person or firm.
type Correspondent struct {
	Name      string   `json:"name"`
	Addresses []string `json:"addresses"`
	Domains   []string `json:"domains"` // with their subdomains
	Groups    []string `json:"groups"`
}

// Book finds correspondents by address. The zero Book is empty; a Book may be
// used by several goroutines at once.
type Book struct {
	byAddress map[string]*Correspondent
	byDomain  map[string]*Correspondent
	names     map[string]bool // folded names and groups
	all       []Correspondent
}

// New makes a book.
func New(all []Correspondent) *Book {
	b := &Book{byAddress: map[string]*Correspondent{}, byDomain: map[string]*Correspondent{}, names: map[string]bool{},
		all: slices.Clone(all)}
	for i := range b.all {
		c := &b.all[i]
		b.names[fold(c.Name)] = true
		for _, g := range c.Groups {
			b.names[fold(g)] = true
		}
		for _, a := range c.Addresses {
			b.byAddress[fold(a)] = c
		}
		for _, d := range c.Domains {
			b.byDomain[domain(d)] = c
		}
	}
	return b
}

func fold(s string) string { return strings.ToLower(strings.TrimSpace(s)) }

func domain(s string) string { return strings.Trim(fold(s), ".@") }

// Find gives the correspondent of an address: by the whole address, else by the longest domain that matches. It is nil
// where no correspondent matches.
func (b *Book) Find(a mail.Address) *Correspondent {
	if b == nil || a.Domain == "" {
		return nil
	}
	if c := b.byAddress[fold(a.String())]; c != nil {
		return c
	}
	if local, _, ok := strings.Cut(a.Local, "+"); ok { // RFC 5233: the same mailbox
		if c := b.byAddress[fold(local+"@"+a.Domain)]; c != nil {
			return c
		}
	}
	for d := a.Domain; d != ""; {
		if c := b.byDomain[d]; c != nil {
			return c
		}
		_, rest, ok := strings.Cut(d, ".")
		if !ok {
			break
		}
		d = rest
	}
	return nil
}

// Is says whether a correspondent has the name or is in the group.
func (c *Correspondent) Is(nameOrGroup string) bool {
	return strings.EqualFold(strings.TrimSpace(nameOrGroup), c.Name) ||
		slices.ContainsFunc(c.Groups, func(g string) bool { return strings.EqualFold(g, strings.TrimSpace(nameOrGroup)) })
}

// Has says whether the book knows a name or a group.
func (b *Book) Has(nameOrGroup string) bool { return b != nil && b.names[fold(nameOrGroup)] }

// Names lists the names, then the groups, each in the order of the alphabet.
func (b *Book) Names() (names, groups []string) {
	if b == nil {
		return nil, nil
	}
	for _, c := range b.all {
		names = append(names, c.Name)
		for _, g := range c.Groups {
			if !slices.Contains(groups, g) {
				groups = append(groups, g)
			}
		}
	}
	slices.Sort(names)
	slices.Sort(groups)
	return names, groups
}

// Check says what is wrong with a correspondent that is to stand in the book in
// place of the one called was ("" for a new one): field by field, a sentence each.
func (b *Book) Check(c *Correspondent, was string) map[string]string {
	wrong := map[string]string{}
	c.Name = strings.TrimSpace(c.Name)
	switch {
	case c.Name == "":
		wrong["name"] = "the correspondent has no name"
	case len(c.Name) > 200:
		wrong["name"] = "the name is longer than 200 characters"
	}
	if len(c.Addresses)+len(c.Domains) == 0 {
		wrong["addresses"] = "there is no address and no domain by which to recognise the correspondent"
	}
	for i, a := range c.Addresses {
		a = fold(a)
		c.Addresses[i] = a
		if local, d, ok := strings.Cut(a, "@"); !ok || local == "" || !strings.Contains(d, ".") ||
			strings.ContainsAny(a, " <>,") {
			wrong["addresses"] = fmt.Sprintf("%q is not an address", a)
		}
	}
	for i, d := range c.Domains {
		d = domain(d)
		c.Domains[i] = d
		if !strings.Contains(d, ".") || strings.ContainsAny(d, " @<>,/") {
			wrong["domains"] = fmt.Sprintf("%q is not a domain", d)
		}
	}
	for i, g := range c.Groups {
		c.Groups[i] = strings.TrimSpace(g)
		if c.Groups[i] == "" {
			wrong["groups"] = "a group has no name"
		}
	}
	for i := range b.all {
		other := &b.all[i]
		if strings.EqualFold(other.Name, was) {
			continue
		}
		if strings.EqualFold(other.Name, c.Name) {
			wrong["name"] = fmt.Sprintf("there is a correspondent called “%s” already", other.Name)
		}
		for _, g := range c.Groups {
			if strings.EqualFold(g, other.Name) {
				wrong["groups"] = fmt.Sprintf("“%s” is the name of a correspondent, so it cannot be a group", g)
			}
		}
		for _, g := range other.Groups {
			if strings.EqualFold(g, c.Name) {
				wrong["name"] = fmt.Sprintf("“%s” is the name of a group", g)
			}
		}
		for _, a := range c.Addresses {
			if slices.Contains(other.Addresses, a) {
				wrong["addresses"] = fmt.Sprintf("%s belongs to “%s” already", a, other.Name)
			}
		}
		for _, d := range c.Domains {
			if slices.Contains(other.Domains, d) {
				wrong["domains"] = fmt.Sprintf("%s belongs to “%s” already", d, other.Name)
			}
		}
	}
	return wrong
}
