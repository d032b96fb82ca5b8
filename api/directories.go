package api

import "time"

// Directory is where people come from.
type Directory struct {
	Name    string      `json:"directory"`
	Kind    string      `json:"directory_kind" enum:"ldap,openid"`
	Server  string      `json:"server"`
	Account string      `json:"account"`
	Base    string      `json:"base_name"`
	Roles   []GroupRole `json:"group_roles" nullable:"false"`
	Added   time.Time   `json:"added"`
	Asked   *time.Time  `json:"asked,omitempty" doc:"When it was asked last whether it answers; absent if it was not since the start"`
	Trouble string      `json:"trouble" doc:"Why it could not be asked then"`
}

// GroupRole grants a role to the members of a group of a directory.
type GroupRole struct {
	Group string `json:"group_name" minLength:"1" maxLength:"500" doc:"Its name there, or its distinguished name" example:"Herbarium Team"`
	Role  string `json:"role" minLength:"1" maxLength:"63" example:"engineer"`
	On    string `json:"on" doc:"everything, group:NAME or image:NAME" default:"everything" maxLength:"200" example:"group:herbarium"`
}

// NewDirectory enters one.
type NewDirectory struct {
	Name        string      `json:"directory" minLength:"1" maxLength:"63" doc:"How it is called here" example:"garden"`
	Server      string      `json:"server" maxLength:"500" doc:"ldaps://HOST[:PORT], or the https address of an OpenID provider" example:"ldaps://dc1.fennholt.example"`
	Account     string      `json:"account" maxLength:"500" doc:"That searches, as the directory takes it for signing in; of a provider the client's id" example:"jugate@fennholt.example"`
	Password    string      `json:"password" maxLength:"500" doc:"Of the account; of a provider the client's secret" example:"sundial"`
	Base        string      `json:"base_name,omitempty" maxLength:"500" doc:"Below which people and groups are; not of a provider" example:"DC=fennholt,DC=example"`
	Certificate string      `json:"certificate,omitempty" maxLength:"65536" doc:"PEM of the authority that is trusted; by default those of this machine" example:"-----BEGIN CERTIFICATE-----"`
	Roles       []GroupRole `json:"group_roles" nullable:"false" maxItems:"100" doc:"What members of groups may do here" example:"[{\"group_name\":\"Herbarium Team\",\"role\":\"engineer\",\"on\":\"group:herbarium\"}]"`
}

// DirectoryCheck is what a directory answered.
type DirectoryCheck struct {
	Name   string         `json:"directory"`
	Kind   string         `json:"directory_kind" enum:"ldap,openid"`
	Server string         `json:"server"`
	Groups []CheckedGroup `json:"checked_groups" nullable:"false"`
	As     *KnownPerson   `json:"known_person,omitempty" doc:"Of whom it was asked"`
}

// CheckedGroup tells whether a directory has a group.
type CheckedGroup struct {
	Group string `json:"group_name"`
	Found bool   `json:"found"`
}

// KnownPerson is somebody in a directory, and what follows from that here.
type KnownPerson struct {
	Name     string  `json:"person"`
	Entry    string  `json:"entry" doc:"Distinguished name"`
	Disabled bool    `json:"disabled"`
	Groups   int     `json:"group_count" doc:"In how many groups, with those that contain them"`
	Grants   []Grant `json:"grants" nullable:"false"`
}

// Provider is one that people can sign in by at the console.
type Provider struct {
	Name string `json:"directory"`
	Path string `json:"sign_in_path" doc:"Where the browser is sent"`
}
