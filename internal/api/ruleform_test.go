package api

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"testing"

	"inktray.example/inktray/internal/core/rule"
)

// The console and other programs build rules by what openapi.yaml says of their form. The rule language is made in
// internal/core/rule, so what the two say has to be the same.
func TestTheContractHasEveryKeyOfARule(t *testing.T) {
	spec, err := GetSpec()
	if err != nil {
		t.Fatal(err)
	}
	data, err := json.Marshal(rule.Schema())
	if err != nil {
		t.Fatal(err)
	}
	var language struct {
		Defs map[string]struct {
			Properties map[string]any `json:"properties"`
			Required   []string       `json:"required"`
		} `json:"$defs"`
	}
	if err := json.Unmarshal(data, &language); err != nil {
		t.Fatal(err)
	}
	for contract, name := range map[string]string{"RuleDocument": "Rule", "RuleRest": "Rest", "RuleEntry": "Selection",
		"RuleCopy": "Copy", "RuleReply": "Letter", "RuleTell": "Tell", "RuleStep": "Step", "RuleItemTest": "ItemTest",
		"RuleInnerText": "InnerText", "RuleValue": "ValueOf"} {
		schema := spec.Components.Schemas[contract]
		if schema == nil {
			t.Errorf("there is no schema %s", contract)
			continue
		}
		got := slices.Sorted(maps.Keys(schema.Value.Properties))
		want := slices.Sorted(maps.Keys(language.Defs[name].Properties))
		if !slices.Equal(got, want) {
			t.Errorf("%s has %q, the language's %s %q", contract, got, name, want)
		}
		if !slices.Equal(slices.Sorted(slices.Values(schema.Value.Required)),
			slices.Sorted(slices.Values(language.Defs[name].Required))) {
			t.Errorf("%s needs %q, the language's %s %q", contract, schema.Value.Required, name,
				language.Defs[name].Required)
		}
	}
}

func TestTheContractDescribesEverySchema(t *testing.T) {
	spec, err := GetSpec()
	if err != nil {
		t.Fatal(err)
	}
	for name, schema := range spec.Components.Schemas {
		if d := schema.Value.Description; len(d) < 10 || !strings.HasSuffix(d, ".") {
			t.Errorf("%s is not described by a sentence: %q", name, d)
		}
	}
}
