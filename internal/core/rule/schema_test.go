package rule

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v3"
)

// validator is the published schema, compiled by a validator that knows nothing
// of this package.
func validator(t *testing.T) *jsonschema.Schema {
	t.Helper()
	data, err := json.Marshal(Schema())
	if err != nil {
		t.Fatal(err)
	}
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("schema.json", document); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("schema.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// asJSON reads YAML as programs that validate it do.
func asJSON(t *testing.T, text string) any {
	t.Helper()
	var v any
	if err := yaml.Unmarshal([]byte(text), &v); err != nil {
		t.Fatal(err)
	}
	data, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	out, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	return out
}

const everything = `format: 1
rules:
  - id: x
    name: Everything that the document knows
    cabinet: harbour files
    look: {mailboxes: all, folders: [inbox, Archive/2026]}
    time zone: Europe/Oslo
    match:
      all:
        - sender: {address: [a@b.example], domain: b.example, exactly: true, name: Oda, detail: x}
        - recipient: {detail: north}
        - any: [{subject: {contains: a, contains all: [b, c], is: d, begins: e, ends: f, like: "g*", matches: "h+"}}, {subject.full: {is: "Re: x"}}]
        - none: [{words: {in: [subject, body, names], any: [a], all: [b]}}]
        - {received: {after: 2026-05-12, before: 2027-01-01, within: 14 days}, sent: {within: 3 months}}
        - {size: {larger: 1 KB, smaller: 1.5 MB}, label: To file, read: false, flagged: true}
        - {attachments: {at least: 1, at most: 9}, attachment: {kind: [pdf, picture], extension: pdf, type: image/*, name: "*.pdf", name matches: "x+", larger: 1 B, smaller: 1 GB, inline: false}}
    unless: [{subject: {begins: Draft}}]
    attachments:
      - leave: [{inline: true, smaller: 20 KB}]
      - {take: {kind: pdf}, folder: A/<received year>, name: <file.stem>, if name exists: keep}
      - {take: everything, folder: B, if name exists: number}
    rest: {folder: C, name: <file.stem>}
    leave out: [signature pictures, detached signatures, active files, forwarded messages]
    then: stop
`

func TestThePublishedSchemaAndTheReaderAgree(t *testing.T) {
	schema := validator(t)
	for name, c := range map[string]struct {
		old, new string
		good     bool
	}{
		"everything": {"", "", true},
		"every message": {
			everything[strings.Index(everything, "    match:"):strings.Index(everything, "    unless:")],
			"    match: every message\n", true},
		"rest is left": {"rest: {folder: C, name: <file.stem>}", "rest: leave", true},
		"nothing left out": {"leave out: [signature pictures, detached signatures, active files, forwarded messages]",
			"leave out: []", true},
		"another word for any":  {"contains: a,", "contains any: [a, b],", true},
		"unknown key":           {"    then: stop", "    than: stop", false},
		"unknown key deep down": {"begins: Draft", "begns: Draft", false},
		"unknown kind":          {"kind: [pdf, picture]", "kind: [pdf, photo]", false},
		"unknown word":          {"then: stop", "then: halt", false},
		"no such choice":        {"if name exists: keep", "if name exists: overwrite", false},
		"missing name":          {"    name: Everything that the document knows\n", "", false},
		"missing mailboxes":     {"look: {mailboxes: all, folders", "look: {folders", false},
		"not a size":            {"larger: 1 KB", "larger: much", false},
		"not an age":            {"within: 14 days", "within: 14 moons", false},
		"not a number":          {"at least: 1", "at least: one", false},
		"neither yes nor no":    {"read: false", "read: perhaps", false},
		"not all messages":      {"    match:\n", "    match: all messages\n    was:\n", false},
		"a recipient verified": {"sender: {address: [a@b.example]", "recipient: {verified: true, address: [a@b.example]",
			false},
		"a text where a map is": {"sender: {address: [a@b.example], domain: b.example, exactly: true, name: Oda, detail: x}",
			"sender: b.example", false},
		"a place without folder": {"rest: {folder: C, name: <file.stem>}", "rest: {name: x}", false},
	} {
		text := everything
		if c.old != "" {
			if text = strings.Replace(everything, c.old, c.new, 1); text == everything {
				t.Fatalf("%s: nothing was replaced", name)
			}
		}
		_, readErr := Parse([]byte(text))
		schemaErr := schema.Validate(asJSON(t, text))
		if (readErr == nil) != c.good {
			t.Errorf("%s: the reader says %v", name, readErr)
		}
		if (schemaErr == nil) != c.good {
			t.Errorf("%s: the schema says %v", name, schemaErr)
		}
	}
}

func TestEveryKeyOfTheTypesIsInTheSchemaWithItsWords(t *testing.T) {
	data, err := json.Marshal(Schema())
	if err != nil {
		t.Fatal(err)
	}
	var s struct {
		Defs map[string]struct {
			Properties map[string]struct {
				Description string `json:"description"`
			} `json:"properties"`
		} `json:"$defs"`
	}
	if err := json.Unmarshal(data, &s); err != nil {
		t.Fatal(err)
	}
	keys := 0
	for name, d := range s.Defs {
		for key, p := range d.Properties {
			keys++
			if p.Description == "" {
				t.Errorf("%s.%s has no words", name, key)
			}
		}
	}
	if keys < 60 {
		t.Errorf("only %d keys", keys)
	}
}
