package people

import (
	"bytes"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/google/renameio/v2"

	"stonebaton.example/core/near"
	"stonebaton.example/core/right"
)

// File is the name of the file in the folder of the records.
const File = "people.json"

// Person is somebody who may use the service, or an application that says for whom it asks.
type Person struct {
	Name    string        `json:"name"`
	Rights  []right.Right `json:"rights"`
	Is      []string      `json:"is,omitempty"`      // the approvers that they are
	Address string        `json:"address,omitempty"` // where notices go
	Key     string        `json:"key,omitempty"`     // of an application: its public key, PEM
	Through []string      `json:"through,omitempty"` // applications that may ask for them
	Salt    string        `json:"salt,omitempty"`
	Hash    string        `json:"hash,omitempty"` // of the token with the salt; "" where there is none
	Since   time.Time     `json:"since"`
}

// Can says whether a person has a right.
func (p Person) Can(r right.Right) bool {
	return slices.ContainsFunc(p.Rights, func(have right.Right) bool { return have.Gives(r) })
}

// Stands gives the names that a person stands for where a gate says who may settle it: their
// own, the approvers that they are, and their rights.
func (p Person) Stands() []string {
	out := append([]string{p.Name}, p.Is...)
	for _, r := range right.All() {
		if p.Can(r) {
			out = append(out, string(r))
		}
	}
	return out
}

// RefusedError says why a person cannot be as somebody wants them to be.
type RefusedError struct{ Say string }

func (e *RefusedError) Error() string { return e.Say }

func refused(format string, args ...any) error { return &RefusedError{fmt.Sprintf(format, args...)} }

var nameForm = regexp.MustCompile(`^[a-z][a-z0-9_-]{0,39}$`)

// CheckName says what is wrong with a name.
func CheckName(name string) error {
	switch {
	case !nameForm.MatchString(name):
		return refused("%q cannot be a name: it begins with a small letter, and has small letters, digits, _ and -, at most 40", name)
	case right.Reserved(name):
		return refused("%q cannot be a name, since it means something else in the gates of files", name)
	}
	return nil
}

// check says what is wrong with a person.
func (p Person) check() error {
	if err := CheckName(p.Name); err != nil {
		return err
	}
	if len(p.Rights) == 0 {
		return refused("%s has no rights; they are %s", p.Name, names(right.All()))
	}
	for _, r := range p.Rights {
		if !r.Valid() {
			return refused("%s: there is no right %q.%s They are %s", p.Name, r, near.Hint(string(r), strs(right.All())), names(right.All()))
		}
	}
	for _, n := range p.Is {
		if err := CheckName(n); err != nil {
			return refused("%s: is: %v", p.Name, err)
		}
	}
	for _, n := range p.Through {
		if err := CheckName(n); err != nil {
			return refused("%s: through: %v", p.Name, err)
		}
	}
	if p.Key != "" {
		if len(p.Through) > 0 {
			return refused("%s is an application; it asks itself, through no other", p.Name)
		}
		if _, err := publicKey(p.Key); err != nil {
			return refused("%s: key: %v", p.Name, err)
		}
		if p.Can(right.Admin) {
			return refused("%s says for whom it asks, so it cannot have the right %s", p.Name, right.Admin)
		}
	}
	return nil
}

func publicKey(text string) (ed25519.PublicKey, error) {
	block, _ := pem.Decode([]byte(text))
	if block == nil {
		return nil, errors.New("it is not a public key in PEM form (openssl pkey -pubout gives one)")
	}
	k, err := x509.ParsePKIXPublicKey(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("the public key cannot be read: %w", err)
	}
	pub, ok := k.(ed25519.PublicKey)
	if !ok {
		return nil, errors.New("the public key is not of the kind Ed25519")
	}
	return pub, nil
}

func strs(list []right.Right) []string {
	out := make([]string, len(list))
	for i, r := range list {
		out[i] = string(r)
	}
	return out
}

func names(list []right.Right) string { return strings.Join(strs(list), ", ") }

// Book is the people of a service. Its methods may be called side by side, also by several
// processes that have the same file.
type Book struct {
	file string

	mu     sync.Mutex
	stamp  stamp
	people []Person
	err    error // why the file cannot be read; then nobody is let in
	reads  atomic.Int64
}

// Reads counts how often the file was read: where it has grown, the people may be others.
func (b *Book) Reads() int64 { return b.reads.Load() }

// stamp tells whether a file has changed.
type stamp struct {
	inode   uint64
	size    int64
	changed time.Time
}

// Open gives the book of a folder of records. There need not be a file.
func Open(data string) *Book { return &Book{file: filepath.Join(data, File)} }

// File gives the path of the book's file.
func (b *Book) File() string { return b.file }

type contents struct {
	People []Person `json:"people"`
}

// List gives everybody, by name. Its error says what is wrong with the file.
func (b *Book) List() ([]Person, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.look()
	return slices.Clone(b.people), b.err
}

// Find gives one person.
func (b *Book) Find(name string) (Person, bool, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.look()
	p, ok := find(b.people, name)
	return p, ok, b.err
}

// None says whether there is nobody, so that the service has no sign-in.
func (b *Book) None() (bool, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.look()
	return len(b.people) == 0, b.err
}

func find(list []Person, name string) (Person, bool) {
	i := slices.IndexFunc(list, func(p Person) bool { return p.Name == name })
	if i < 0 {
		return Person{}, false
	}
	return list[i], true
}

// look reads the file again where it has changed.
func (b *Book) look() {
	info, err := os.Stat(b.file)
	if errors.Is(err, fs.ErrNotExist) {
		if len(b.people) > 0 || b.err != nil {
			b.reads.Add(1)
		}
		b.people, b.err, b.stamp = nil, nil, stamp{}
		return
	}
	if err != nil {
		b.people, b.err, b.stamp = nil, err, stamp{}
		return
	}
	now := stamp{size: info.Size(), changed: info.ModTime()}
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		now.inode = s.Ino
	}
	if now == b.stamp {
		return
	}
	b.people, b.err = read(b.file)
	b.reads.Add(1)
	b.stamp = now
}

func read(file string) ([]Person, error) {
	raw, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var c contents
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&c); err != nil {
		return nil, fmt.Errorf("%s cannot be read, so nobody is let in: %w", file, err)
	}
	seen := map[string]bool{}
	for _, p := range c.People {
		if err := p.check(); err != nil {
			return nil, fmt.Errorf("%s: %w; nobody is let in before this is right", file, err)
		}
		if seen[p.Name] {
			return nil, fmt.Errorf("%s has two people with the name %s; nobody is let in before this is right", file, p.Name)
		}
		seen[p.Name] = true
	}
	return c.People, nil
}

// UnknownError says that there is no such person.
type UnknownError struct {
	Name string
	Have []string
}

func (e *UnknownError) Error() string {
	return fmt.Sprintf("there is no person %q.%s `stonebaton person list` lists them", e.Name, near.Hint(e.Name, e.Have))
}

// change changes the file, while nobody else does.
func (b *Book) change(f func([]Person) ([]Person, error)) error {
	if err := os.MkdirAll(filepath.Dir(b.file), 0o700); err != nil {
		return err
	}
	lock, err := os.OpenFile(b.file+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return err
	}
	list, err := read(b.file)
	if err == nil {
		list, err = f(list)
	}
	if err != nil {
		return err
	}
	slices.SortFunc(list, func(x, y Person) int { return strings.Compare(x.Name, y.Name) })
	raw, err := json.MarshalIndent(contents{list}, "", "  ")
	if err != nil {
		return err
	}
	return renameio.WriteFile(b.file, append(raw, '\n'), 0o600)
}

// Add adds a person and gives their token; an application gets none, for it signs with its key.
func (b *Book) Add(p Person, now time.Time) (token string, err error) {
	p.Since = now.UTC().Truncate(time.Second)
	if err := p.check(); err != nil {
		return "", err
	}
	if p.Key == "" {
		token = p.renew()
	}
	return token, b.change(func(list []Person) ([]Person, error) {
		if _, there := find(list, p.Name); there {
			return nil, refused("%s is there already; `stonebaton person token %s` gives a new token, `stonebaton person revoke %s` takes all away", p.Name, p.Name, p.Name)
		}
		return append(list, p), nil
	})
}

// Renew gives a person a new token. The one before it, and whoever signed in with it, is out.
func (b *Book) Renew(name string) (token string, err error) {
	return token, b.with(name, func(p *Person) error {
		if p.Key != "" {
			return refused("%s is an application and signs with its key; it has no token", name)
		}
		token = p.renew()
		return nil
	})
}

// Set changes the rights of a person, and which approvers they are.
func (b *Book) Set(name string, f func(*Person)) error {
	return b.with(name, func(p *Person) error {
		f(p)
		return p.check()
	})
}

func (b *Book) with(name string, f func(*Person) error) error {
	return b.change(func(list []Person) ([]Person, error) {
		i := slices.IndexFunc(list, func(p Person) bool { return p.Name == name })
		if i < 0 {
			return nil, unknown(list, name)
		}
		return list, f(&list[i])
	})
}

func unknown(list []Person, name string) error {
	e := &UnknownError{Name: name}
	for _, p := range list {
		e.Have = append(e.Have, p.Name)
	}
	return e
}

// Remove takes a person out.
func (b *Book) Remove(name string) error {
	return b.change(func(list []Person) ([]Person, error) {
		n := len(list)
		list = slices.DeleteFunc(list, func(p Person) bool { return p.Name == name })
		if len(list) == n {
			return nil, unknown(list, name)
		}
		return list, nil
	})
}

// renew makes a new token: the name, a point, and 32 random bytes.
func (p *Person) renew() string {
	token := p.Name + "." + random(32)
	p.Salt = random(16)
	p.Hash = hash(p.Salt, token)
	return token
}

func random(n int) string {
	b := make([]byte, n)
	_, _ = rand.Read(b) // never fails
	return base64.RawURLEncoding.EncodeToString(b)
}

// hash hashes a token. It has 256 random bits, so that a slow hash would gain nothing.
func hash(salt, token string) string {
	m := hmac.New(sha256.New, []byte(salt))
	m.Write([]byte(token))
	return base64.RawURLEncoding.EncodeToString(m.Sum(nil))
}

// ErrToken says that a token is not one that lets somebody in.
var ErrToken = errors.New("the token is not valid")

// ByToken gives the person whose token it is.
func (b *Book) ByToken(token string) (Person, error) {
	name, _, _ := strings.Cut(token, ".")
	p, ok, err := b.Find(name)
	if err != nil {
		return Person{}, err
	}
	if !ok || p.Hash == "" || !hmac.Equal([]byte(p.Hash), []byte(hash(p.Salt, token))) {
		return Person{}, ErrToken
	}
	return p, nil
}

// standsFor says whether a person stands for one of some names.
func (p Person) standsFor(names []string) bool {
	return slices.ContainsFunc(p.Stands(), func(n string) bool { return slices.Contains(names, n) })
}
