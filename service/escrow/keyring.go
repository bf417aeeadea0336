// Package escrow holds the service's escrow identities: what opens the recovery keys that laptops seal to the service.
//
// They are in one file, which is not in the database: whoever has a copy of the database alone can open no key. The file
// is protected by its mode, by a passphrase, or by a key in a security module that is reached by PKCS #11.
package escrow

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"filippo.io/age"

	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/formats/escrow"
	"zenithridge.example/zridge/service/seal"
)

// Config says where the identities are.
type Config struct {
	File       string   // it is made if it is not there
	Passphrase string   // with which the file is encrypted; empty: it is not
	Module     Module   // whose key protects the file; the zero Module: none does
	Known      []string // identities that are taken in, if they are not there: texts that begin with AGE-SECRET-KEY-
}

// Keyring is the escrow identities of the service. It is safe for concurrent use.
type Keyring struct {
	config Config
	mu     sync.Mutex // guards what follows
	list   []identity
}

type identity struct {
	secret *age.X25519Identity
	madeAt time.Time
}

// kept is an identity in the file.
type kept struct {
	Recipient string    `json:"recipient"`
	Identity  string    `json:"identity"`
	MadeAt    time.Time `json:"made_at"`
}

const mostIdentities = 20

// Load reads the identities. A file that is not there is one without identities; Make writes it. A file that is
// protected otherwise than the configuration says is protected anew, but one that is not protected at all is never
// taken for one that is.
func Load(c Config) (*Keyring, error) {
	if c.Passphrase != "" && c.Module.Path != "" {
		return nil, errors.New("escrow identities are protected by a passphrase or by a security module, not by both")
	}
	k := &Keyring{config: c}
	if err := k.read(); err != nil {
		return nil, fmt.Errorf("the escrow identities, %s: %w", c.File, err)
	}
	for _, text := range c.Known {
		if _, err := k.Add(text, time.Now()); err != nil {
			return nil, fmt.Errorf("an escrow identity that is taken in: %w", err)
		}
	}
	return k, nil
}

// read reads the file, and protects it where it was not.
func (k *Keyring) read() error {
	data, err := os.ReadFile(k.config.File)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	plain, protected, err := k.config.unprotect(data)
	if err != nil {
		return err
	}
	if k.list, err = parse(plain); err != nil {
		return err
	}
	if !protected && (k.config.Passphrase != "" || k.config.Module.Path != "") {
		return k.write(k.list)
	}
	return nil
}

// unprotect gives what is in the file. protected tells whether it was protected.
func (c *Config) unprotect(data []byte) (plain []byte, protected bool, err error) {
	switch {
	case seal.IsEncrypted(data) && c.Passphrase == "":
		return nil, true, errors.New("the file is encrypted with a passphrase: give it with --escrow-passphrase")
	case seal.IsEncrypted(data):
		plain, err = seal.Decrypt(data, c.Passphrase)
		return plain, true, err
	case isWrapped(data) && c.Module.Path == "":
		return nil, true, errors.New("the file is protected by a security module: name it with --escrow-module")
	case isWrapped(data):
		plain, err = c.Module.unwrap(data)
		return plain, true, err
	}
	return data, false, nil
}

func parse(plain []byte) ([]identity, error) {
	var list []kept
	if err := json.Unmarshal(plain, &list); err != nil || len(list) > mostIdentities {
		return nil, errors.New("expected a JSON list of identities")
	}
	out := make([]identity, len(list))
	for i, each := range list {
		secret, err := age.ParseX25519Identity(each.Identity)
		if err != nil || secret.Recipient().String() != each.Recipient {
			return nil, fmt.Errorf("identity %d: expected a text that begins with AGE-SECRET-KEY-, and its recipient", i+1)
		}
		out[i] = identity{secret, each.MadeAt}
	}
	return out, nil
}

// write replaces the file. k.mu must be held, but while the ring is loaded.
func (k *Keyring) write(list []identity) error {
	out := make([]kept, len(list))
	for i, each := range list {
		out[i] = kept{each.secret.Recipient().String(), each.secret.String(), each.madeAt}
	}
	data, err := json.MarshalIndent(out, "", "  ")
	if err != nil {
		return err
	}
	switch {
	case k.config.Passphrase != "":
		data, err = seal.Encrypt(data, k.config.Passphrase)
	case k.config.Module.Path != "":
		data, err = k.config.Module.wrap(data)
	default:
		data = append(data, '\n')
	}
	if err != nil {
		return err
	}
	return seal.ReplaceFile(k.config.File, data)
}

// Recipients lists the public halves of the identities, the oldest first.
func (k *Keyring) Recipients() []string {
	k.mu.Lock()
	defer k.mu.Unlock()
	out := make([]string, len(k.list))
	for i, each := range k.list {
		out[i] = each.secret.Recipient().String()
	}
	return out
}

// Has tells whether a recipient is one of the service's own, whose private half is there.
func (k *Keyring) Has(recipient string) bool { return slices.Contains(k.Recipients(), recipient) }

// Make makes an identity, writes it down and gives its public half.
func (k *Keyring) Make(now time.Time) (recipient string, err error) {
	secret, err := age.GenerateX25519Identity()
	if err != nil {
		return "", err
	}
	return k.add(secret, now)
}

// Add takes an identity in that was made elsewhere: a text that begins with AGE-SECRET-KEY-. One that is there already
// stays as it is.
func (k *Keyring) Add(text string, now time.Time) (recipient string, err error) {
	secret, err := age.ParseX25519Identity(strings.TrimSpace(text))
	if err != nil {
		return "", errors.New("expected one line that begins with AGE-SECRET-KEY-") // the error of age has the text in it
	}
	if recipient = secret.Recipient().String(); k.Has(recipient) {
		return recipient, nil
	}
	return k.add(secret, now)
}

func (k *Keyring) add(secret *age.X25519Identity, now time.Time) (recipient string, err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.list) >= mostIdentities {
		return "", fmt.Errorf("the service has %d escrow identities, which is the most: destroy one that is not needed", mostIdentities)
	}
	next := append(slices.Clone(k.list), identity{secret, now.UTC()})
	if err := k.write(next); err != nil {
		return "", fmt.Errorf("writing the escrow identities: %w", err)
	}
	k.list = next
	return secret.Recipient().String(), nil
}

// Destroy removes an identity. What is sealed to it alone can never be opened again.
func (k *Keyring) Destroy(recipient string) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	next := slices.DeleteFunc(slices.Clone(k.list), func(each identity) bool { return each.secret.Recipient().String() == recipient })
	if len(next) == len(k.list) {
		return nil
	}
	if err := k.write(next); err != nil {
		return fmt.Errorf("writing the escrow identities: %w", err)
	}
	k.list = next
	return nil
}

// Open gives a recovery key that was sealed for a volume of a laptop. The error is escrow.ErrNotFor of package
// formats/escrow where none of the identities opens it.
func (k *Keyring) Open(sealed []byte, device, volume string) (recovery.Key, error) {
	k.mu.Lock()
	identities := make([]age.Identity, len(k.list))
	for i, each := range k.list {
		identities[i] = each.secret
	}
	k.mu.Unlock()
	return escrow.Open(sealed, device, volume, identities...)
}
