package permit

import "context"

type key struct{}

// With is a context whose holder asks may before each step. An error says why it may not.
func With(ctx context.Context, may func(context.Context) error) context.Context {
	return context.WithValue(ctx, key{}, may)
}

// Ask reports whether the next step may be taken: the context has not ended, and whoever has to be asked does not say
// no.
func Ask(ctx context.Context) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if may, ok := ctx.Value(key{}).(func(context.Context) error); ok {
		return may(ctx)
	}
	return nil
}
