package apiclient

import (
	"context"
	"net/http"
	"net/http/cookiejar"
	"net/url"

	"jugate/api"
)

// OpenSession opens a session by name and password, and returns a client that is in it.
func (c *Client) OpenSession(ctx context.Context, in api.SignIn) (*Client, api.Session, error) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, api.Session{}, err
	}
	with := *c.http
	with.Jar = jar
	session := c.WithToken("").Over(&with)
	who, err := one[api.Session](ctx, session, http.MethodPost, "session", in)
	return session, who, err
}

// SignOut ends the session that the client is in.
func (c *Client) SignOut(ctx context.Context) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/session", nil, nil)
}

// ChangePassword sets one's own password.
func (c *Client) ChangePassword(ctx context.Context, in api.PasswordChange) error {
	return c.do(ctx, http.MethodPut, "/api/v1/session/password", in, nil)
}

// OfferFactor makes the secret of a second factor for oneself.
func (c *Client) OfferFactor(ctx context.Context) (api.OfferedFactor, error) {
	return one[api.OfferedFactor](ctx, c, http.MethodPost, "session/second-factor", nil)
}

// ConfirmFactor has it count.
func (c *Client) ConfirmFactor(ctx context.Context, code string) error {
	return c.do(ctx, http.MethodPut, "/api/v1/session/second-factor", api.FactorCode{Code: code}, nil)
}

// RemoveFactor ends it.
func (c *Client) RemoveFactor(ctx context.Context, code string) error {
	return c.do(ctx, http.MethodPost, "/api/v1/session/second-factor/remove", api.FactorCode{Code: code}, nil)
}

// Invited tells whom a link to set a password is for.
func (c *Client) Invited(ctx context.Context, secret string) (api.Invited, error) {
	return one[api.Invited](ctx, c, http.MethodGet, "invitations/"+url.PathEscape(secret), nil)
}

// Accept sets a password by a link, once.
func (c *Client) Accept(ctx context.Context, secret string, in api.Acceptance) (api.Session, error) {
	return one[api.Session](ctx, c, http.MethodPost, "invitations/"+url.PathEscape(secret), in)
}

// Sessions lists sessions of the console: one's own, or those of all.
func (c *Client) Sessions(ctx context.Context) (api.Page[api.OpenSession], error) {
	return list[api.OpenSession](ctx, c, "sessions", List{})
}

// EndSession ends a session by its id.
func (c *Client) EndSession(ctx context.Context, id string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/sessions/"+url.PathEscape(id), nil, nil)
}

// People lists those who may sign in.
func (c *Client) People(ctx context.Context) (api.Page[api.Person], error) {
	return list[api.Person](ctx, c, "people", List{})
}

// Person shows one.
func (c *Client) Person(ctx context.Context, name string) (api.Person, error) {
	return one[api.Person](ctx, c, http.MethodGet, "people/"+url.PathEscape(name), nil)
}

// AddPerson takes a person in.
func (c *Client) AddPerson(ctx context.Context, in api.NewPerson) (api.Person, error) {
	return one[api.Person](ctx, c, http.MethodPost, "people", in)
}

// ChangePerson changes what is said of a person, or granted.
func (c *Client) ChangePerson(ctx context.Context, name string, in api.PersonChange) (api.Person, error) {
	return one[api.Person](ctx, c, http.MethodPatch, "people/"+url.PathEscape(name), in)
}

// RemovePerson removes a person.
func (c *Client) RemovePerson(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/people/"+url.PathEscape(name), nil, nil)
}

// Invite makes a link with which a person sets a password.
func (c *Client) Invite(ctx context.Context, name string) (api.Invitation, error) {
	return one[api.Invitation](ctx, c, http.MethodPost, "people/"+url.PathEscape(name)+"/invitation", nil)
}

// Roles lists roles.
func (c *Client) Roles(ctx context.Context) (api.Page[api.Role], error) {
	return list[api.Role](ctx, c, "roles", List{})
}

// PutRole keeps a role of the service's own.
func (c *Client) PutRole(ctx context.Context, in api.NewRole) (api.Role, error) {
	return one[api.Role](ctx, c, http.MethodPut, "roles", in)
}

// RemoveRole removes a role that nobody has.
func (c *Client) RemoveRole(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/roles/"+url.PathEscape(name), nil, nil)
}

// Tokens lists tokens of programs: one's own, or those of all.
func (c *Client) Tokens(ctx context.Context) (api.Page[api.Token], error) {
	return list[api.Token](ctx, c, "tokens", List{})
}

// AddToken makes a token for a program.
func (c *Client) AddToken(ctx context.Context, in api.NewToken) (api.IssuedToken, error) {
	return one[api.IssuedToken](ctx, c, http.MethodPost, "tokens", in)
}

// RemoveToken ends a token.
func (c *Client) RemoveToken(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/tokens/"+url.PathEscape(name), nil, nil)
}

// Lines lists the logbook; filters: who, operation, since, until.
func (c *Client) Lines(ctx context.Context, l List) (api.Page[api.Line], error) {
	return list[api.Line](ctx, c, "logbook", l)
}

// Directories lists directories that people come from.
func (c *Client) Directories(ctx context.Context) (api.Page[api.Directory], error) {
	return list[api.Directory](ctx, c, "directories", List{})
}

// AddDirectory enters one.
func (c *Client) AddDirectory(ctx context.Context, in api.NewDirectory) (api.DirectoryCheck, error) {
	return one[api.DirectoryCheck](ctx, c, http.MethodPost, "directories", in)
}

// CheckDirectory asks one whether people can sign in, and what somebody may do here; as may be empty.
func (c *Client) CheckDirectory(ctx context.Context, name, as string) (api.DirectoryCheck, error) {
	return one[api.DirectoryCheck](ctx, c, http.MethodPost, "directories/"+url.PathEscape(name)+"/check"+List{Filter: map[string]string{"as": as}}.query(), nil)
}

// RemoveDirectory forgets one, with the people who came from it.
func (c *Client) RemoveDirectory(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/directories/"+url.PathEscape(name), nil, nil)
}

// Providers lists OpenID providers that people can sign in by.
func (c *Client) Providers(ctx context.Context) (api.Page[api.Provider], error) {
	return list[api.Provider](ctx, c, "providers", List{})
}

// ChangeLastResort renews the key of last resort, or switches it off.
func (c *Client) ChangeLastResort(ctx context.Context, in api.LastResort) (api.RenewedKey, error) {
	return one[api.RenewedKey](ctx, c, http.MethodPut, "last-resort", in)
}
