package web

import "github.com/unrolled/secure"

// hardened says what browsers may do with answers, beside what RFC 9110 has: the console's pages load what
// this service serves and nothing else, run no script and no style that stands in them without the
// answer's nonce, and are part of no other page (Content Security Policy level 3).
var hardened = secure.New(secure.Options{
	STSSeconds:                365 * 24 * 60 * 60, // RFC 6797
	ContentTypeNosniff:        true,
	ReferrerPolicy:            "no-referrer",
	CrossOriginOpenerPolicy:   "same-origin",
	CrossOriginResourcePolicy: "same-origin",
	ContentSecurityPolicy:     "default-src 'none'; script-src 'self'; style-src 'self' $NONCE; img-src 'self' data:; font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'",
}).Handler
