package api

import "time"

// Domain is a domain that delivered systems join.
type Domain struct {
	Name    string    `json:"domain" doc:"DNS name" example:"fennholt.example"`
	Server  string    `json:"server" doc:"Where its directory is asked, by LDAPS" example:"ldaps://dc1.fennholt.example"`
	Account string    `json:"account" doc:"That creates computers"`
	Unit    string    `json:"unit" doc:"Where computers are created, a distinguished name (RFC 4514)"`
	Added   time.Time `json:"added"`
}

// NewDomain is a domain with the account that creates computers in it.
type NewDomain struct {
	Name        string `json:"domain" doc:"DNS name" example:"fennholt.example" minLength:"3" maxLength:"253"`
	Server      string `json:"server,omitempty" doc:"ldaps://HOST[:PORT]; by default whoever answers at the domain's own name" example:"ldaps://dc1.fennholt.example" maxLength:"300"`
	Account     string `json:"account" doc:"As the directory takes it for signing in" example:"jugate@fennholt.example" minLength:"1" maxLength:"300"`
	Password    string `json:"password" doc:"Sealed in the records, and never shown" example:"sundial-2.14" minLength:"1" maxLength:"500"`
	Unit        string `json:"unit" doc:"Where the account may create computers, a distinguished name (RFC 4514)" example:"OU=Workstations,DC=fennholt,DC=example" minLength:"1" maxLength:"1000"`
	Certificate string `json:"certificate,omitempty" doc:"The authority that the directory's certificate comes from, in PEM; by default those that this machine trusts" example:"-----BEGIN CERTIFICATE-----" maxLength:"65536"`
}

// DomainCheck is what a domain's directory told when it was asked.
type DomainCheck struct {
	Name       string `json:"domain"`
	Controller string `json:"controller" doc:"Name of the domain controller that answered"`
	ShortName  string `json:"short_name" doc:"NetBIOS name of the domain"`
	Site       string `json:"site"`
	Unit       string `json:"unit"`
	ClockAhead int    `json:"clock_ahead_seconds" doc:"How far the controller's clock is ahead of the service's"`
}
