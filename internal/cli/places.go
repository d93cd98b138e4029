package cli

import (
	"context"
	"fmt"
	"strings"

	"inktray.example/inktray/client"
)

// named finds a thing by its name, or by its identity.
func named[T any](all []T, err error, what, name string, of func(*T) (name, id string)) (T, error) {
	var names []string
	for i := range all {
		n, id := of(&all[i])
		if strings.EqualFold(n, name) || id == name {
			return all[i], err
		}
		names = append(names, n)
	}
	var none T
	if err != nil {
		return none, err
	}
	text := fmt.Sprintf("there is no %s called “%s”", what, name)
	if len(names) > 0 {
		text += "; there are: " + strings.Join(names, ", ")
	}
	return none, &exitError{exitMissing, text}
}

func findMailbox(ctx context.Context, api *client.Client, name string) (client.Mailbox, error) {
	all, err := call[[]client.Mailbox](api.ListMailboxes(ctx))
	return named(all, err, "mailbox", name, func(m *client.Mailbox) (string, string) { return m.Name, m.ID })
}

func findCabinet(ctx context.Context, api *client.Client, name string) (client.Cabinet, error) {
	all, err := call[[]client.Cabinet](api.ListCabinets(ctx))
	return named(all, err, "cabinet", name, func(k *client.Cabinet) (string, string) { return k.Name, k.ID })
}

func findRule(ctx context.Context, api *client.Client, name string) (client.Rule, error) {
	all, err := call[[]client.Rule](api.ListRules(ctx))
	return named(all, err, "rule", name, func(r *client.Rule) (string, string) { return r.Name, r.ID })
}
