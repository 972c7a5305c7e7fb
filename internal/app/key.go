package app

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/renameio/v2"
)

// keyFile holds the key that requests from this machine show where nobody has to say who
// they are: who can read the records may settle and build, a program that can only reach the
// service may not.
const keyFile = "local.key"

// KeyPrefix begins each such key; no token of a person does.
const KeyPrefix = "local."

// openKey reads the key of a folder of records, or makes it.
func openKey(data string) (string, error) {
	file := filepath.Join(data, keyFile)
	key, err := readKey(data)
	if !errors.Is(err, fs.ErrNotExist) {
		return key, err
	}
	raw := make([]byte, 32)
	_, _ = rand.Read(raw) // never fails
	key = KeyPrefix + base64.RawURLEncoding.EncodeToString(raw)
	return key, renameio.WriteFile(file, []byte(key+"\n"), 0o600)
}

func readKey(data string) (string, error) {
	file := filepath.Join(data, keyFile)
	raw, err := os.ReadFile(file)
	if err != nil {
		return "", err
	}
	key := strings.TrimSpace(string(raw))
	if !strings.HasPrefix(key, KeyPrefix) || len(key) < len(KeyPrefix)+40 {
		return "", fmt.Errorf("%s does not hold a key; delete it, and the next start makes a new one", file)
	}
	return key, nil
}

// Key gives the key of the records.
func (a *App) Key() string { return a.key }

// LocalKey gives the key where the local person needs it; "" where there is none, or they
// may do everything without.
func (a *App) LocalKey() string {
	none, err := a.People.None()
	if err != nil || a.Access.Beyond || a.Access.Open || !none && !a.Access.Local {
		return ""
	}
	return a.key
}

// Unlocks says whether a key is that of the records.
func (a *App) Unlocks(key string) bool {
	return subtle.ConstantTimeCompare([]byte(key), []byte(a.key)) == 1
}

// placeFile is where the service at a URL of this machine leaves word of the folder of its
// records, for the commands of the same user.
func placeFile(at string) (string, error) {
	u, err := url.Parse(at)
	if err != nil {
		return "", err
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "stonebaton", "local", strings.ReplaceAll(u.Host, ":", "_")), nil
}

// leaveWord tells the commands of the same user where the key is, where they need it.
func (a *App) leaveWord(at string) error {
	if a.LocalKey() == "" {
		return nil
	}
	file, err := placeFile(at)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	data, err := filepath.Abs(a.data)
	if err != nil {
		return err
	}
	a.word = file
	return renameio.WriteFile(file, []byte(data+"\n"), 0o600)
}

// KeyOf gives the key of the service at a URL of this machine; "" where its records are not
// to be found, or not to be read.
func KeyOf(at string) string {
	file, err := placeFile(at)
	if err != nil {
		return ""
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return ""
	}
	key, err := readKey(strings.TrimSpace(string(data)))
	if err != nil {
		return ""
	}
	return key
}
