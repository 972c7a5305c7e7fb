package schema

import (
	"errors"
	"net/mail"
	"net/url"
	"strings"
	"unicode/utf8"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/net/idna"
)

// formats are those of the standard that the library does not check.
var formats = []*jsonschema.Format{
	{Name: "idn-hostname", Validate: ofText(hostname)},
	{Name: "idn-email", Validate: ofText(email)},
	{Name: "iri", Validate: ofText(func(s string) error { return iri(s, true) })},
	{Name: "iri-reference", Validate: ofText(func(s string) error { return iri(s, false) })},
}

// ofText checks texts alone: a format says nothing of other values.
func ofText(check func(string) error) func(any) error {
	return func(v any) error {
		if s, ok := v.(string); ok {
			return check(s)
		}
		return nil
	}
}

// names reads host names in any script (RFC 5890 to 5893), strictly.
var names = idna.New(idna.ValidateForRegistration(), idna.StrictDomainName(true), idna.VerifyDNSLength(true), idna.BidiRule())

func hostname(s string) error {
	s = strings.NewReplacer("\u3002", ".", "\uff0e", ".", "\uff61", ".").Replace(s) // the other full stops
	ascii, err := names.ToASCII(s)
	if err != nil {
		return err
	}
	_, err = names.ToUnicode(ascii)
	return err
}

// email reads an address in any script (RFC 6531).
func email(s string) error {
	at := strings.LastIndexByte(s, '@')
	if at < 1 || !utf8.ValidString(s) {
		return errors.New("it has no @ with something before it")
	}
	if domain := s[at+1:]; !strings.HasPrefix(domain, "[") {
		if err := hostname(domain); err != nil {
			return err
		}
	}
	_, err := mail.ParseAddress("<" + s + ">")
	return err
}

// iri reads an address of the web in any script (RFC 3987).
func iri(s string, whole bool) error {
	if strings.ContainsAny(s, " <>\"{}|\\^`") || !utf8.ValidString(s) {
		return errors.New("it has a letter that none may have")
	}
	u, err := url.Parse(s)
	if err == nil && whole && !u.IsAbs() {
		err = errors.New("it has no scheme")
	}
	if err == nil && strings.Count(u.Host, ":") > 1 && !strings.HasPrefix(u.Host, "[") {
		err = errors.New("an address of version 6 stands in brackets")
	}
	return err
}
