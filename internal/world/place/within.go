package place

import "context"

// Within does something that knows no context, such as connecting by a library that has none. What it makes after the
// context has ended is dropped; the error is the context's cause then.
func Within[T any](ctx context.Context, do func() (T, error), drop func(T)) (T, error) {
	type outcome struct {
		of  T
		err error
	}
	done := make(chan outcome, 1)
	go func() {
		of, err := do()
		done <- outcome{of, err}
	}()
	select {
	case o := <-done:
		return o.of, o.err
	case <-ctx.Done():
		go func() {
			if o := <-done; o.err == nil {
				drop(o.of)
			}
		}()
		var none T
		return none, context.Cause(ctx)
	}
}
