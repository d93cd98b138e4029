package api

import (
	"slices"
	"testing"
)

func TestNamesAreInTheOrderInWhichPeopleLookForThem(t *testing.T) {
	got := []string{"Zander", "berth 10", "Öresund", "Ämter", "ostkai", "Berth 2", "amber", "Amt", "Quay", "", "Ostkai 2"}
	want := []string{"", "amber", "Amt", "Ämter", "Berth 2", "berth 10", "Öresund", "ostkai", "Ostkai 2", "Quay", "Zander"}
	if inOrder(got, func(s *string) string { return *s }); !slices.Equal(got, want) {
		t.Errorf("the order is %q", got)
	}
	// Those of one name stay in their order.
	type one struct {
		name string
		n    int
	}
	same := inOrder([]one{{"b", 1}, {"a", 2}, {"b", 3}, {"a", 4}}, func(o *one) string { return o.name })
	if !slices.Equal(same, []one{{"a", 2}, {"a", 4}, {"b", 1}, {"b", 3}}) {
		t.Errorf("the order is %v", same)
	}
}
