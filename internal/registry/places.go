package registry

import (
	"cmp"
	"context"
	"errors"
	"os"
	"slices"

	"inktray.example/inktray/internal/core/codes"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/text"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/store"
)

// Place is where a value stands in a filed file.
type Place struct {
	Value string // its name
	text.Spot
}

// Places says where the values of a filing stand in its file, as far as it has pages and they are written there: PDFs
// and what was read of scans. The error tells what is wrong with the file.
func Places(ctx context.Context, rg *Registry, f *store.Filing) (places []Place, err error) {
	var texts, names []string
	for _, v := range f.Values {
		if v.Text == "" || v.By != "" || len(texts) == text.MostLooked {
			continue // what a person wrote does not stand there
		}
		texts, names = append(texts, cmp.Or(v.As, v.Text)), append(names, v.Name)
	}
	if len(texts) == 0 {
		return nil, nil
	}
	coded, err := fromCodes(ctx, rg, f)
	if err != nil {
		return nil, err
	}
	err = lookInto(ctx, rg, f, func(content *os.File) error {
		spots, err := rg.Reader.Find(ctx, content, texts)
		if err == nil && slices.ContainsFunc(names, coded) {
			var more []text.Spot
			more, err = reading.FindCodes(ctx, rg.Reader, content, texts)
			spots = append(spots, slices.DeleteFunc(more, func(s text.Spot) bool { return !coded(names[s.Text]) })...)
		}
		for _, s := range spots {
			places = append(places, Place{Value: names[s.Text], Spot: s})
		}
		return err
	})
	return places, err
}

// fromCodes says which values of a filing's rule are read from bar codes and QR codes.
func fromCodes(ctx context.Context, rg *Registry, f *store.Filing) (func(name string) bool, error) {
	c, err := (&valueReader{Registry: rg, rules: map[string]*rule.Compiled{}}).rule(ctx, f.RuleID)
	return func(name string) bool {
		return c != nil && slices.ContainsFunc(c.Values(), func(v rule.Value) bool { return v.Name == name && v.Codes })
	}, err
}

// InsideAndCodes reads what Inside reads, and the bar codes and QR codes on the file's pages; missing says why they
// cannot be read, or not on all pages.
func InsideAndCodes(ctx context.Context, rg *Registry, f *store.Filing) (read *mail.Read, all []codes.Code,
	missing *mail.Codes, err error) {
	err = lookInto(ctx, rg, f, func(content *os.File) (err error) {
		if read, err = rg.Reader.TextOf(ctx, content, f.File, ""); err != nil {
			return err
		}
		all, missing, err = reading.ListCodes(ctx, rg.Reader, content)
		return err
	})
	return read, all, missing, err
}

// Inside reads the text inside a filed file, and the electronic invoice that it is or holds. Why it cannot be read is
// in the result; the error is the cabinet's or the machine's, or says that the file is another one.
func Inside(ctx context.Context, rg *Registry, f *store.Filing) (read *mail.Read, err error) {
	err = lookInto(ctx, rg, f, func(content *os.File) (err error) {
		read, err = rg.Reader.TextOf(ctx, content, f.File, "")
		return err
	})
	return read, err
}

// CannotBeLookedInto says that a file has another content than when it was filed, or is larger than is read.
func CannotBeLookedInto(err error) bool { return errors.Is(err, errOther) || errors.Is(err, errLarge) }
