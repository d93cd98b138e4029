package rule

import (
	"encoding"
	"reflect"
)

// Schema is the JSON Schema (2020-12) of the document, made from its types.
func Schema() map[string]any {
	s := schemas{defs: map[string]any{}}
	root := s.of(reflect.TypeFor[Document]())
	return map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema",
		"$id":     "urn:inktray:rules:1",
		"title":   "Ink Tray rules",
		"$ref":    root["$ref"],
		"$defs":   s.defs,
	}
}

type schemas struct{ defs map[string]any }

func (s *schemas) of(t reflect.Type) map[string]any {
	switch t {
	case reflect.TypeFor[Match]():
		return map[string]any{"anyOf": []any{map[string]any{"const": everyMessage}, s.of(reflect.TypeFor[Condition]())}}
	case reflect.TypeFor[Take]():
		return map[string]any{"anyOf": []any{map[string]any{"const": "everything"}, s.of(reflect.TypeFor[[]ItemTest]())}}
	case reflect.TypeFor[Size]():
		return map[string]any{"type": []string{"string", "number"}, "examples": []string{"20 KB"},
			"pattern": `^[0-9]+(\.[0-9]+)? ?([KMG]?B)?$`}
	case reflect.TypeFor[Age]():
		return map[string]any{"type": "string", "pattern": `^[0-9]+ (day|week|month|year)s?$`}
	case reflect.TypeFor[Day]():
		return map[string]any{"type": "string", "format": "date"}
	}
	if t.Kind() == reflect.Pointer {
		return s.of(t.Elem())
	}
	if w, ok := reflect.Zero(t).Interface().(word); ok {
		return map[string]any{"enum": w.choices()}
	}
	if t.Implements(reflect.TypeFor[encoding.TextMarshaler]()) {
		return map[string]any{"type": "string"}
	}
	switch t.Kind() {
	case reflect.Slice:
		one := s.of(t.Elem())
		return map[string]any{"anyOf": []any{one, map[string]any{"type": "array", "items": one}}}
	case reflect.Int:
		return map[string]any{"type": "integer", "minimum": 0}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Struct:
		ref := map[string]any{"$ref": "#/$defs/" + t.Name()}
		if s.defs[t.Name()] == nil {
			s.defs[t.Name()] = true // a condition holds conditions
			s.defs[t.Name()] = s.object(t)
		}
		if t == reflect.TypeFor[Rest]() {
			return map[string]any{"anyOf": []any{map[string]any{"const": "leave"}, ref}}
		}
		return ref
	}
	return map[string]any{"type": []string{"string", "number", "boolean"}}
}

func (s *schemas) object(t reflect.Type) map[string]any {
	properties, required := map[string]any{}, []string{}
	for _, f := range reflect.VisibleFields(t) {
		name, optional := tagOf(f)
		if name == "" {
			continue
		}
		p := s.of(f.Type)
		entry := map[string]any{"description": f.Tag.Get("doc")}
		for k, v := range p {
			entry[k] = v
		}
		properties[name] = entry
		if alias := f.Tag.Get("alias"); alias != "" {
			properties[alias] = entry
		}
		if !optional {
			required = append(required, name)
		}
	}
	out := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	if len(required) > 0 {
		out["required"] = required
	}
	return out
}
