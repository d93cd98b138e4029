package filing

import (
	"context"
	"fmt"

	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/store"
)

// repeated looks whether an earlier message had a file with the same value, where the rule asks for that. hold says
// that a person is to be asked. What a person released is filed, and said to be so; the same content is no repetition,
// but there already. sum is that of the content (SHA-256), nil where it was not read.
func repeated(ctx context.Context, fl *Filer, r *rule.Compiled, entry *store.Entry,
	item *plan.Item, sum []byte) (why reason.Reason, hold bool, err error) {
	for i, of := range r.Values() {
		if of.Again != rule.SayAgain && of.Again != rule.AskAgain || i >= len(item.Values) || item.Values[i].Text == "" {
			continue
		}
		earlier, err := fl.Store.Journal.EarlierWith(ctx, entry, of.Name, item.Values[i].Text, sum)
		if err != nil {
			return why, false, err
		}
		if earlier == nil {
			continue
		}
		where := fmt.Sprintf("“%s” of message %d", earlier.Name, earlier.MessageID) // it may be filed soon
		if earlier.RegisterNumber > 0 && (earlier.State == store.Filed || earlier.State == store.There) {
			where = register.Number{Year: earlier.RegisterYear, Number: earlier.RegisterNumber}.String()
		}
		why = reason.And(why, reason.Repeated(of.Name, item.Values[i].Text, where))
		hold = hold || of.Again == rule.AskAgain && entry.Given != "release" && entry.Given != "elsewhere"
	}
	return why, hold, nil
}
