package api

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/big"
	"slices"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"

	"inktray.example/inktray/internal/core/pattern"
)

// shapes says in words what the patterns of openapi.yaml ask for.
var shapes = map[string]string{
	"^[0-9]{4}-[0-9]+$":               "is not a register number, such as 2026-5731",
	"^([01][0-9]|2[0-3]):[0-5][0-9]$": "is not a time of the day, such as 02:30",
	"^[0-9]{1,18}$":                   "is not the number of an item",
	"^[fprm]?[0-9]{1,18}$":            "is not the number of an item in the tray",
}

// schemaProblems says what does not agree with openapi.yaml, a sentence for each fault;
// place is where the value is if the fault names no place itself.
func schemaProblems(place string, e *openapi3.SchemaError) []FieldProblem {
	var found *jsonschema.ValidationError
	if !errors.As(e, &found) {
		f := FieldProblem{Place: place, Text: "this is not as it should be"}
		if e.SchemaField == "enum" && e.Schema != nil { // behind a reference
			text, meant := fault(&kind.Enum{Got: e.Value, Want: e.Schema.Enum})
			f.Text, f.Meant = text, optional(meant)
		}
		return []FieldProblem{f}
	}
	var fields []FieldProblem
	var walk func(v *jsonschema.ValidationError)
	walk = func(v *jsonschema.ValidationError) {
		if len(v.Causes) > 0 {
			for _, cause := range v.Causes {
				walk(cause)
			}
			return
		}
		at := strings.Join(v.InstanceLocation, ".")
		if at == "" {
			at = place
		}
		text, meant := fault(v.ErrorKind)
		f := FieldProblem{Place: at, Text: text}
		if meant != "" {
			f.Meant = &meant
		}
		if !slices.ContainsFunc(fields, func(is FieldProblem) bool { return is.Place == f.Place && is.Text == f.Text }) {
			fields = append(fields, f)
		}
	}
	walk(found)
	return fields
}

// requestFault says in a sentence what a request is at fault in before its values are looked at;
// "" where these are at fault.
func requestFault(e *openapi3filter.RequestError) string {
	var parse *openapi3filter.ParseError
	var syntax *json.SyntaxError
	var wanted *json.UnmarshalTypeError
	switch {
	case errors.As(e.Err, &syntax):
		return fmt.Sprintf("this is not JSON: it breaks off or goes wrong at byte %d", syntax.Offset)
	case errors.As(e.Err, &wanted):
		return "this is not JSON of the right kind: it must be " + kinds("object")
	case errors.Is(e.Err, io.EOF), errors.Is(e.Err, io.ErrUnexpectedEOF):
		return "this is not JSON: it breaks off"
	case errors.Is(e.Err, openapi3filter.ErrInvalidRequired) && e.Parameter == nil:
		return "the request has no body"
	case errors.Is(e.Err, openapi3filter.ErrInvalidRequired):
		return "this is missing"
	case errors.Is(e.Err, openapi3filter.ErrInvalidEmptyValue):
		return "this is empty"
	case errors.As(e.Err, &parse):
		if e.Parameter != nil && e.Parameter.Schema != nil && e.Parameter.Schema.Value != nil &&
			e.Parameter.Schema.Value.Type != nil && parse.Value != nil {
			return fmt.Sprintf("“%v” is not %s", parse.Value, kinds(e.Parameter.Schema.Value.Type.Slice()...))
		}
		if e.Parameter == nil {
			return "the body is not of the kind that its Content-Type says, or that is read here"
		}
		return "this is not written as it should be"
	case e.Err == nil:
		return "the body is not of a kind that is read here"
	}
	return ""
}

// fault is a validator's finding as a sentence, and what was probably meant, or "".
func fault(k jsonschema.ErrorKind) (text, meant string) {
	switch k := k.(type) {
	case *kind.Required:
		return wordList(k.Missing, "this is missing: ", "these are missing: "), ""
	case *kind.AdditionalProperties:
		return wordList(k.Properties, "this is not known here: ", "these are not known here: "), ""
	case *kind.Type:
		return fmt.Sprintf("this must be %s, not %s", kinds(k.Want...), kinds(k.Got)), ""
	case *kind.Enum:
		var all []string
		for _, w := range k.Want {
			all = append(all, fmt.Sprint(w))
		}
		got := fmt.Sprint(k.Got)
		return fmt.Sprintf("“%s” is none of these: %s", got, strings.Join(all, ", ")), pattern.Nearest(got, all)
	case *kind.Const:
		return fmt.Sprintf("only “%v” may stand here", k.Want), ""
	case *kind.Pattern:
		if says := shapes[k.Want]; says != "" {
			return fmt.Sprintf("“%s” %s", k.Got, says), ""
		}
		return fmt.Sprintf("“%s” is not written as it should be", k.Got), ""
	case *kind.Format:
		return fmt.Sprintf("“%v” is no %s", k.Got,
			cmp.Or(map[string]string{"date-time": "time such as 2026-11-05T07:30:00Z", "date": "day such as 2026-11-05",
				"uri": "address such as https://files.brackwater.example", "email": "mail address"}[k.Want], k.Want)), ""
	case *kind.MinLength:
		if k.Got == 0 {
			return "this is empty", ""
		}
		return fmt.Sprintf("this has %d characters; at least %d are needed", k.Got, k.Want), ""
	case *kind.MaxLength:
		return fmt.Sprintf("this has %d characters; at most %d are allowed", k.Got, k.Want), ""
	case *kind.MinItems:
		if k.Got == 0 {
			return "nothing is named here", ""
		}
		return fmt.Sprintf("%d are named here; at least %d are needed", k.Got, k.Want), ""
	case *kind.MaxItems:
		return fmt.Sprintf("%d are named here; at most %d are allowed", k.Got, k.Want), ""
	case *kind.UniqueItems:
		return fmt.Sprintf("number %d and number %d are the same", k.Duplicates[0]+1, k.Duplicates[1]+1), ""
	case *kind.Minimum:
		return fmt.Sprintf("%s is too small; the minimum is %s", number10(k.Got), number10(k.Want)), ""
	case *kind.Maximum:
		return fmt.Sprintf("%s is too large; the maximum is %s", number10(k.Got), number10(k.Want)), ""
	case *kind.ExclusiveMinimum:
		return fmt.Sprintf("%s is too small; it must be more than %s", number10(k.Got), number10(k.Want)), ""
	case *kind.ExclusiveMaximum:
		return fmt.Sprintf("%s is too large; it must be less than %s", number10(k.Got), number10(k.Want)), ""
	case *kind.MinProperties:
		return "this is empty", ""
	}
	return "this is not as it should be", ""
}

func number10(r *big.Rat) string {
	if r.IsInt() {
		return r.Num().String()
	}
	f, _ := r.Float64()
	return fmt.Sprint(f)
}

// wordList is a list after the words for one or for several.
func wordList(all []string, one, several string) string {
	if len(all) == 1 {
		return one + all[0]
	}
	return several + strings.Join(all, ", ")
}

// kinds names kinds of JSON values.
func kinds(names ...string) string {
	var all []string
	for _, n := range names {
		all = append(all,
			map[string]string{"string": "a text", "number": "a number", "integer": "a whole number", "boolean": "true or false",
				"array":  "a list",
				"object": "a map of keys and values", "null": "nothing"}[n])
	}
	return strings.Join(all, " or ")
}
