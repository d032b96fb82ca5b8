package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"jugate/api"
)

func (s *Server) domainRoutes(h huma.API) {
	const tag = "domains"
	type domainRef struct {
		Name string `path:"domain" doc:"DNS name" maxLength:"253" example:"fennholt.example"`
	}
	lists(s, h, op("GET", "/domains", "list-domains", tag, "List the domains that delivered systems can join"),
		func(ctx context.Context, _ *Nothing) ([]api.Domain, int, error) { return uncut(s.Domains.List(ctx)) })
	answers(s, h, op("POST", "/domains", "add-domain", tag, "Enter a domain, with the account that creates computers in it"),
		func(ctx context.Context, in *struct{ Body api.NewDomain }) (api.DomainCheck, error) {
			return s.Domains.Add(ctx, in.Body)
		})
	answers(s, h, op("POST", "/domains/{domain}/check", "check-domain", tag, "Ask a domain's directory whether computers can join"),
		func(ctx context.Context, in *domainRef) (api.DomainCheck, error) {
			return s.Domains.Check(ctx, in.Name)
		})
	does(s, h, op("DELETE", "/domains/{domain}", "remove-domain", tag, "Forget a domain and its account"),
		func(ctx context.Context, in *domainRef) error { return s.Domains.Remove(ctx, in.Name) })
}
