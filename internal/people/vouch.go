package people

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"stonebaton.example/core/right"
)

// Audience is what a signed token of an application is for.
const Audience = "stonebaton"

// vouchedFor bounds how long a signed token of an application is good.
const vouchedFor = 10 * time.Minute

// subject is what an application may call a person.
var subject = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9@._+-]{0,99}$`)

// Vouched gives the person for whom an application asks, by a token that it signed: a JSON Web
// Token (RFC 7519) with EdDSA (RFC 8037) whose iss is the application, sub the person and aud
// Audience, with iat and exp at most ten minutes apart. An application speaks for people of its
// own, who have its rights; own is true of them. For somebody in the book it speaks where the book
// says so of both; they have no right then that they have not themselves. Taken are names that
// nobody may get in this way: those of who may settle something.
func (b *Book) Vouched(token string, now time.Time, taken []string) (p Person, by string, own bool, err error) {
	var app Person
	claims := &jwt.RegisteredClaims{}
	_, err = jwt.ParseWithClaims(token, claims, func(t *jwt.Token) (any, error) {
		p, ok, err := b.Find(claims.Issuer)
		switch {
		case err != nil:
			return nil, err
		case !ok || p.Key == "":
			return nil, fmt.Errorf("there is no application %q", claims.Issuer)
		}
		app = p
		return publicKey(p.Key)
	}, jwt.WithValidMethods([]string{"EdDSA"}), jwt.WithAudience(Audience), jwt.WithExpirationRequired(), jwt.WithIssuedAt(), jwt.WithStrictDecoding(), jwt.WithLeeway(5*time.Second), jwt.WithTimeFunc(func() time.Time { return now }))
	switch {
	case err != nil:
		return Person{}, "", false, errors.Join(ErrToken, err)
	case claims.IssuedAt == nil || claims.ExpiresAt.Sub(claims.IssuedAt.Time) > vouchedFor:
		return Person{}, "", false, fmt.Errorf("%w: iat is missing, or exp is more than %s after it", ErrToken, vouchedFor)
	case !subject.MatchString(claims.Subject):
		return Person{}, "", false, fmt.Errorf("%w: sub has to be a name of letters, digits and @._+-", ErrToken)
	}
	p, there, err := b.Find(claims.Subject)
	switch {
	case err != nil:
		return Person{}, "", false, err
	case there && p.Key != "":
		return Person{}, "", false, fmt.Errorf("%w: %s is an application", ErrToken, p.Name)
	case there && !slices.Contains(p.Through, app.Name):
		return Person{}, "", false, fmt.Errorf("%w: the book does not let %s ask for %s", ErrToken, app.Name, p.Name)
	case there:
		p.Rights = slices.DeleteFunc(slices.Clone(app.Rights), func(r right.Right) bool { return !p.Can(r) })
		if !app.Can(right.Approve) {
			p.Is = nil
		}
	case right.Reserved(claims.Subject) || slices.Contains(taken, claims.Subject) || b.approver(claims.Subject):
		return Person{}, "", false, fmt.Errorf("%w: %q is not the name of a person", ErrToken, claims.Subject)
	default:
		p = Person{Name: claims.Subject, Rights: app.Rights}
	}
	return p, app.Name, !there, nil
}

// approver says whether somebody in the book is an approver of a name.
func (b *Book) approver(name string) bool {
	list, err := b.List()
	return err != nil || slices.ContainsFunc(list, func(p Person) bool { return slices.Contains(p.Is, name) })
}
