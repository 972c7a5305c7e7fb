package people

import (
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"github.com/google/renameio/v2"
)

// Link is what a signed link lets its bearer decide: one ticket, as one person, once.
type Link struct {
	ID      string // its own
	Ticket  int64
	Person  string // whom it was sent to
	Expires time.Time
}

// Signer signs links with a key that only the service has. Its methods may be called side by
// side.
type Signer struct{ key []byte }

// keyFile has the key in the folder of the records.
const keyFile = "link.key"

// NewSigner gives the signer of a folder of records, and makes its key where it has none.
// Whoever removes the key makes all links before it worthless.
func NewSigner(data string) (*Signer, error) {
	file := filepath.Join(data, keyFile)
	key, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		key = make([]byte, 32)
		_, _ = rand.Read(key) // never fails
		err = renameio.WriteFile(file, key, 0o600)
	}
	if err == nil && len(key) < 32 {
		err = fmt.Errorf("%s is too short for a key; remove it, and a new one is made", file)
	}
	return &Signer{key}, err
}

type linkClaims struct {
	jwt.RegisteredClaims
	Ticket int64 `json:"ticket"`
}

// audienceOfLinks keeps a link from being taken for anything else.
const audienceOfLinks = "stonebaton ticket"

// Sign gives the token of a link: a JSON Web Token (RFC 7519) with HS256.
func (s *Signer) Sign(l Link, now time.Time) (string, error) {
	return jwt.NewWithClaims(jwt.SigningMethodHS256, linkClaims{jwt.RegisteredClaims{ID: l.ID, Subject: l.Person, Audience: jwt.ClaimStrings{audienceOfLinks},
		IssuedAt: jwt.NewNumericDate(now), ExpiresAt: jwt.NewNumericDate(l.Expires)}, l.Ticket}).SignedString(s.key)
}

// Errors of links.
var (
	ErrLink    = errors.New("the link is not valid")
	ErrExpired = errors.New("the link has expired")
)

// Read gives the link of a token that this service signed and that has not expired.
func (s *Signer) Read(token string, now time.Time) (Link, error) {
	c := &linkClaims{}
	_, err := jwt.ParseWithClaims(token, c, func(*jwt.Token) (any, error) { return s.key, nil },
		jwt.WithValidMethods([]string{"HS256"}), jwt.WithAudience(audienceOfLinks), jwt.WithExpirationRequired(), jwt.WithStrictDecoding(), jwt.WithTimeFunc(func() time.Time { return now }))
	switch {
	case errors.Is(err, jwt.ErrTokenExpired):
		return Link{}, ErrExpired
	case err != nil || c.ID == "" || c.Ticket == 0 || c.Subject == "":
		return Link{}, ErrLink
	}
	return Link{ID: c.ID, Ticket: c.Ticket, Person: c.Subject, Expires: c.ExpiresAt.Time}, nil
}

// signed finds the tokens of links in a text. What makes one good is its signature.
var signed = regexp.MustCompile(`/link#([A-Za-z0-9_-]+\.[A-Za-z0-9_-]+)\.([A-Za-z0-9_-]+)`)

// unsigned stands where a signature was.
const unsigned = "/link#%s.only-for-whom-it-was-sent-to"

var hiddenLink = regexp.MustCompile(strings.Replace(regexp.QuoteMeta(unsigned), "%s", `([A-Za-z0-9_-]+\.[A-Za-z0-9_-]+)`, 1))

// HideLinks takes the signatures out of the links in a text, for it to be kept and shown.
func HideLinks(text string) string {
	return signed.ReplaceAllStringFunc(text, func(link string) string { return fmt.Sprintf(unsigned, signed.FindStringSubmatch(link)[1]) })
}

// ShowLinks puts them back where to is true of whom a link was sent to.
func (s *Signer) ShowLinks(text string, to func(person string) bool) string {
	return hiddenLink.ReplaceAllStringFunc(text, func(link string) string {
		part := hiddenLink.FindStringSubmatch(link)[1]
		c := &linkClaims{}
		if _, _, err := jwt.NewParser().ParseUnverified(part+".", c); err != nil || !slices.Contains(c.Audience, audienceOfLinks) || !to(c.Subject) {
			return link
		}
		signature, err := jwt.SigningMethodHS256.Sign(part, s.key)
		if err != nil {
			return link
		}
		return "/link#" + part + "." + base64.RawURLEncoding.EncodeToString(signature)
	})
}

// NewLink makes a link for a person and a ticket.
func NewLink(ticket int64, person string, expires time.Time) Link {
	return Link{ID: random(16), Ticket: ticket, Person: person, Expires: expires}
}

// Of gives the people who are meant by names of a gate: persons, approvers and rights. Where
// there is nobody in the book, everybody is who they are called.
func (b *Book) Of(names []string) ([]Person, error) {
	list, err := b.List()
	if err != nil {
		return nil, err
	}
	var out []Person
	if len(list) == 0 {
		for _, n := range names {
			out = append(out, Person{Name: n})
		}
		return out, nil
	}
	for _, p := range list {
		if p.Key == "" && p.standsFor(names) {
			out = append(out, p)
		}
	}
	return out, nil
}
