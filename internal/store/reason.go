package store

import (
	"context"
	"fmt"
	"reflect"

	"gorm.io/gorm/schema"

	"inktray.example/inktray/internal/core/reason"
)

func init() { schema.RegisterSerializer("reason", reasonSerializer{}) }

// reasonSerializer keeps a reason.Reason in a column of text.
type reasonSerializer struct{}

// Scan reads a reason.
func (reasonSerializer) Scan(ctx context.Context, field *schema.Field, dst reflect.Value, value any) error {
	var text string
	switch v := value.(type) {
	case nil:
	case string:
		text = v
	case []byte:
		text = string(v)
	default:
		return fmt.Errorf("a reason is kept as text, not as %T", value)
	}
	return field.Set(ctx, dst, reason.Decode(text))
}

// Value is what is kept of a reason.
func (reasonSerializer) Value(_ context.Context, _ *schema.Field, _ reflect.Value, value any) (any, error) {
	r, ok := value.(reason.Reason)
	if !ok {
		return nil, fmt.Errorf("a reason is a reason.Reason, not a %T", value)
	}
	return r.Encode(), nil
}
