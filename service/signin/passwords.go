// This file checks and hashes passwords.

package signin

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
)

// Parameters of argon2id as RFC 9106 and current guidance have them for interactive sign-in: 19
// MiB, 2 passes, 1 lane.
const (
	argonMemory, argonPasses, argonLanes = 19 * 1024, 2, 1
	argonKey, argonSalt                  = 32, 16
)

// unknownAccount is the hash of a password that nobody has.
var unknownAccount = encodeHash(make([]byte, argonSalt), make([]byte, argonKey))

// prepare checks the name and the password of an account, and gives the hash of the password.
func (d *Service) prepare(ctx context.Context, name, password string) (string, error) {
	if !accountName.MatchString(name) {
		return "", &InvalidError{"name", "1 to 64 lower-case letters, digits, '.', '_' or '-'"}
	}
	if n := utf8.RuneCountInString(password); n < MinPassword || n > maxPassword || len(strings.TrimSpace(password)) < MinPassword/2 {
		return "", &InvalidError{"password", fmt.Sprintf("%d to %d characters, not all of them spaces", MinPassword, maxPassword)}
	}
	if tooEasy(password, name) {
		return "", &InvalidError{"password", "one that is not so easily guessed"}
	}
	leaked := isCommon(password)
	if !leaked && d.config.Leaked != nil {
		var err error
		if leaked, err = d.config.Leaked.Has(password); err != nil {
			return "", fmt.Errorf("looking a password up: %w", err)
		}
	}
	if leaked {
		return "", &InvalidError{"password", "one that is in no list of leaked passwords"}
	}
	return d.hashPassword(ctx, password)
}

func encodeHash(salt, key []byte) string {
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonPasses, argonLanes,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(key))
}

func (d *Service) derive(ctx context.Context, password string, salt []byte) ([]byte, error) {
	if d.queued.Add(1) > hashesQueued {
		d.queued.Add(-1)
		return nil, ErrBusy
	}
	defer d.queued.Add(-1)
	select {
	case d.hashes <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	defer func() { <-d.hashes }()
	return argon2.IDKey([]byte(password), salt, argonPasses, argonMemory, argonLanes, argonKey), nil
}

func (d *Service) hashPassword(ctx context.Context, password string) (string, error) {
	salt := make([]byte, argonSalt)
	rand.Read(salt)
	key, err := d.derive(ctx, password, salt)
	return encodeHash(salt, key), err
}

func (d *Service) verify(ctx context.Context, encoded, password string) (bool, error) {
	parts := strings.Split(encoded, "$")
	if len(parts) != 6 {
		return false, nil
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	key, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil {
		return false, nil
	}
	got, err := d.derive(ctx, password, salt)
	return err == nil && subtle.ConstantTimeCompare(got, key) == 1, err
}
