package api

import (
	"encoding/json"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
)

// examples are those of a schema, which OpenAPI 3.1 takes from JSON Schema.
func examples(t *testing.T, s *openapi3.SchemaRef) []any {
	t.Helper()
	if s == nil || s.Value == nil {
		return nil
	}
	return s.Value.Examples
}

// valid checks a value as it is written in JSON.
func valid(s *openapi3.SchemaRef, v any) error {
	data, err := json.Marshal(v)
	if err != nil {
		return err
	}
	var plain any
	if err := json.Unmarshal(data, &plain); err != nil {
		return err
	}
	return s.Value.VisitJSON(plain)
}

func TestEveryOperationHasAGroupAndSaysHowToSignIn(t *testing.T) {
	spec, err := GetSpec()
	if err != nil {
		t.Fatal(err)
	}
	used := map[string]int{}
	for path, item := range spec.Paths.Map() {
		for method, o := range item.Operations() {
			if len(o.Tags) != 1 || spec.Tags.Get(o.Tags[0]) == nil {
				t.Errorf("%s %s has the tags %q, and needs one of those at the top", method, path, o.Tags)
				continue
			}
			used[o.Tags[0]]++
			open := o.Security != nil && len(*o.Security) == 0
			if everyone := o.Extensions["x-permission"] == "everyone"; open != everyone {
				t.Errorf("%s %s is for everyone: %t; asks nobody to sign in: %t", method, path, everyone, open)
			}
		}
	}
	for _, tag := range spec.Tags {
		if used[tag.Name] == 0 || tag.Description == "" {
			t.Errorf("the tag %s has no operation or no description", tag.Name)
		}
	}
	for _, one := range spec.Security {
		for name := range one {
			if spec.Components.SecuritySchemes[name] == nil {
				t.Errorf("%s is no way to sign in", name)
			}
		}
	}
}

func TestEveryRequestHasAnExampleThatIsRight(t *testing.T) {
	spec, err := GetSpec()
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	for path, item := range spec.Paths.Map() {
		for method, o := range item.Operations() {
			if o.RequestBody == nil {
				continue
			}
			body := o.RequestBody.Value.Content["application/json"]
			if body == nil || body.Schema.Ref == "" { // a file, or a single optional word
				continue
			}
			all := examples(t, body.Schema)
			if len(all) == 0 {
				t.Errorf("%s %s has no example of what is sent", method, path)
			}
			for _, one := range all {
				found++
				if err := valid(body.Schema, one); err != nil {
					t.Errorf("%s %s: the example is wrong: %v", method, path, err)
				}
			}
		}
	}
	if found < 60 {
		t.Errorf("only %d examples were found", found)
	}
}

func TestEveryCallHasAnExampleThatIsRight(t *testing.T) {
	spec, err := GetSpec()
	if err != nil {
		t.Fatal(err)
	}
	if len(spec.Webhooks) != 4 {
		t.Errorf("%d calls", len(spec.Webhooks))
	}
	for name, hook := range spec.Webhooks {
		content := hook.Post.RequestBody.Value.Content["application/cloudevents+json"]
		if err := valid(content.Schema, content.Example); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if event, ok := content.Example.(map[string]any); !ok || event["type"] != name {
			t.Errorf("the example of %s is of the type %v", name, event["type"])
		}
	}
}
