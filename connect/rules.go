package connect

import "context"

// Rules are what an installation allows its connections.
type Rules struct {
	// PublicOnly keeps HTTP requests from reaching this machine and private networks, so
	// that nobody looks around in them through Welkin.
	PublicOnly bool
}

type rulesKey struct{}

// WithRules gives a context in which connections are opened under rules.
func WithRules(ctx context.Context, r Rules) context.Context {
	return context.WithValue(ctx, rulesKey{}, r)
}

// RulesOf gives the rules of a context.
func RulesOf(ctx context.Context) Rules {
	r, _ := ctx.Value(rulesKey{}).(Rules)
	return r
}
