package api

import (
	"bytes"
	"slices"

	"golang.org/x/text/collate"
	"golang.org/x/text/language"
)

// inOrder sorts things by name as people look for them (Unicode Technical Standard 10): capitals and accents make no
// difference unless all else is the same, and 2 comes before 10.
func inOrder[S ~[]T, T any](all S, name func(*T) string) S {
	order, keys := collate.New(language.Und, collate.Numeric), &collate.Buffer{}
	type keyed struct {
		key []byte
		of  T
	}
	sorted := make([]keyed, len(all))
	for i := range all {
		sorted[i] = keyed{order.KeyFromString(keys, name(&all[i])), all[i]}
	}
	slices.SortStableFunc(sorted, func(a, b keyed) int { return bytes.Compare(a.key, b.key) })
	for i := range sorted {
		all[i] = sorted[i].of
	}
	return all
}
