package cli

import (
	"context"
	"fmt"
	"reflect"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
)

// showing makes the command that shows one thing of a list with all that the interface says of it.
func showing[T any](c *command, short string,
	find func(ctx context.Context, api *client.Client, name string) (T, error)) *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: short, Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			one, err := find(ctx, api, args[0])
			if err != nil {
				return err
			}
			return c.show(one, func() {
				say := func(word string) string { return c.texts.Word("state", word) }
				rows := facts(say, "", reflect.ValueOf(one))
				for i, row := range rows {
					if row[0] == "name" {
						c.table([]string{"NAME", row[1]}, c.labelled(append(rows[:i:i], rows[i+1:]...)))
						return
					}
				}
				c.table([]string{"", ""}, c.labelled(rows))
			})
		})}
}

// facts are the fields of a value, each by its name in JSON and with its content in words, but for those without one.
// What is no name but a word of the interface is said as say does.
func facts(say func(string) string, within string, v reflect.Value) (rows [][]string) {
	for i := range v.NumField() {
		name, _, _ := strings.Cut(v.Type().Field(i).Tag.Get("json"), ",")
		name = within + strings.ReplaceAll(name, "_", " ")
		field := v.Field(i)
		for field.Kind() == reflect.Pointer && !field.IsNil() {
			field = field.Elem()
		}
		switch at, isTime := field.Interface().(time.Time); {
		case isTime:
			rows = append(rows, []string{name, when(at)})
		case field.Kind() == reflect.Struct:
			rows = append(rows, facts(say, name+" ", field)...)
		case field.Kind() == reflect.Slice && field.Type().Elem().Kind() == reflect.Struct:
			for j := range field.Len() {
				rows = append(rows, facts(say, fmt.Sprintf("%s %d ", name, j+1), field.Index(j))...)
			}
		default:
			text := inCell(field)
			if field.Kind() == reflect.Bool || field.Kind() == reflect.String && field.Type().Name() != "string" {
				text = say(text)
			}
			if text != "" {
				rows = append(rows, []string{name, text})
			}
		}
	}
	return rows
}

// inCell writes a simple value, or a list of them.
func inCell(v reflect.Value) string {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() {
			return ""
		}
		return inCell(v.Elem())
	case reflect.Bool:
		return map[bool]string{true: "yes", false: "no"}[v.Bool()]
	case reflect.Slice:
		var all []string
		for i := range v.Len() {
			all = append(all, inCell(v.Index(i)))
		}
		return strings.Join(all, ", ")
	case reflect.Map:
		return fmt.Sprint(v.Len())
	}
	return fmt.Sprint(v.Interface())
}

func findAlarm(ctx context.Context, api *client.Client, name string) (client.Alarm, error) {
	all, err := call[[]client.Alarm](api.ListAlarms(ctx))
	return named(all, err, "alarm", name, func(a *client.Alarm) (string, string) { return a.Name, a.ID })
}

// groupNamed is findGroup where the group has to be there.
func groupNamed(ctx context.Context, api *client.Client, name string) (client.Group, error) {
	all, err := call[[]client.Group](api.ListGroups(ctx))
	return named(all, err, "group", name, func(g *client.Group) (string, string) { return g.Name, g.ID })
}
