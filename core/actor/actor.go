// Package actor says on whose behalf something is done. Whoever lets a request in puts
// the actor into its context, and whoever records a change takes it from there.
//
//	ctx = actor.With(ctx, actor.Actor{Kind: actor.Workstation, Name: "herb-01"})
//	record.By = actor.From(ctx).String()
package actor

import "context"

// Kind is what an actor is.
type Kind string

// The kinds of actors.
const (
	Person      Kind = "person"
	Token       Kind = "token"
	Schedule    Kind = "schedule"
	Workstation Kind = "workstation" // somebody who stands at it
	Outpost     Kind = "outpost"
	Program     Kind = "program" // the service itself
)

// Actor is who does something. The zero value is Service.
type Actor struct {
	Kind Kind
	Name string
}

var (
	// Administrator is whoever has the key of last resort.
	Administrator = Actor{Token, "administrator"}
	// Service is the service, which does what nobody has ordered.
	Service = Actor{}
)

// String names the actor as records do.
func (a Actor) String() string {
	switch {
	case a == Service:
		return "the service"
	case a.Kind == Workstation && a.Name == "":
		return "somebody, at the workstation"
	case a.Kind == Workstation:
		return a.Name + ", at the workstation"
	}
	return a.Name
}

// Words name the actor within a sentence: "stopped by the administrator".
func (a Actor) Words() string {
	if a == Administrator {
		return "the administrator"
	}
	return a.String()
}

type key struct{}

// With has everything that is done with the context done by a.
func With(ctx context.Context, a Actor) context.Context { return context.WithValue(ctx, key{}, a) }

// From is who does what is done with the context.
func From(ctx context.Context) Actor {
	a, _ := ctx.Value(key{}).(Actor)
	return a
}
