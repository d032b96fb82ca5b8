package actor

import "context"

type privateKey struct{}

// InPrivate has what is answered be read by nobody but who has asked.
func InPrivate(ctx context.Context) context.Context {
	return context.WithValue(ctx, privateKey{}, true)
}

// Private tells whether nobody but who has asked can read the answer: the request came by
// TLS, or from this machine.
func Private(ctx context.Context) bool {
	private, _ := ctx.Value(privateKey{}).(bool)
	return private
}
