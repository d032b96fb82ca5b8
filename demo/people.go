package demo

import (
	"context"

	"jugate/api"
)

// Password opens the console for all people of the demo.
const Password = "the garden gate is green"

// people are those of the garden: who keeps the service, who keeps the herbarium, and who looks on.
var people = []api.NewPerson{
	{Name: "ines", FullName: "Ines Fairholm", Grants: []api.Grant{{Role: "administrator", On: "everything"}}},
	{Name: "tomas", FullName: "Tomas Arden", Grants: []api.Grant{{Role: "reader", On: "everything"}, {Role: "engineer", On: "group:" + scanning}}},
	{Name: "wren", FullName: "Wren Okafor", Grants: []api.Grant{{Role: "reader", On: "everything"}}},
}

// takeIn has people sign in, each by a link of their own.
func (s *Stage) takeIn(ctx context.Context) error {
	nobody := s.Client.WithToken("")
	for _, p := range people {
		if _, err := s.Client.AddPerson(ctx, p); err != nil {
			return err
		}
		link, err := s.Client.Invite(ctx, p.Name)
		if err != nil {
			return err
		}
		if _, err := nobody.Accept(ctx, link.Secret, api.Acceptance{Password: Password}); err != nil {
			return err
		}
	}
	s.say("ines may do everything, tomas keeps the herbarium's workstations, wren looks on; the password of all three is %q", Password)
	return nil
}
