// This file has the second factor: one-time codes (RFC 6238) with recovery codes, and confirming
// who sits at a session.

package signin

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"image/png"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"zenithridge.example/zridge/service/store"
)

var (
	// ErrSecondFactor says that the password is right, and that a one-time code is needed, too.
	ErrSecondFactor = errors.New("a one-time code is needed")
	// ErrNoSession says that only somebody who is signed in with a browser can do this, not a
	// token.
	ErrNoSession = errors.New("not by a token")
)

const (
	codePeriod       = 30 * time.Second // of one code (RFC 6238)
	codeSkew         = 1                // codes before and after the present one that are taken, for clocks that differ
	recoveryCodes    = 10
	confirmedFor     = 15 * time.Minute // after the password was asked for
	idleFor          = 30 * time.Minute // after which a session that nobody uses ends, unless Config says otherwise
	usedNoted        = time.Minute      // between two notes that a session is used
	secondFactorName = "Zenith Ridge"   // that the app of codes shows
)

// Recent tells whether whoever calls was asked for their password within the last minutes. Tokens
// are not asked.
func (c *Caller) Recent(now time.Time) bool { return c.Token || now.Sub(c.ConfirmedAt) < confirmedFor }

// Setup is what an app of one-time codes needs.
type Setup struct {
	Secret  string // base32, for typing
	Address string // otpauth://…
	Picture string // QR code of Address, as the base64 of a PNG
}

// BeginSecondFactor makes a secret for one-time codes. It counts once a code made from it is given
// to ConfirmSecondFactor.
func (d *Service) BeginSecondFactor(ctx context.Context, c Caller) (Setup, error) {
	if c.Token {
		return Setup{}, ErrNoSession
	}
	key, err := totp.Generate(totp.GenerateOpts{Issuer: secondFactorName, AccountName: c.Name, SecretSize: 20})
	if err != nil {
		return Setup{}, err
	}
	image, err := key.Image(200, 200)
	if err != nil {
		return Setup{}, err
	}
	var picture bytes.Buffer
	if err := png.Encode(&picture, image); err != nil {
		return Setup{}, err
	}
	sealed, err := d.config.Seal.Seal(key.Secret())
	if err != nil {
		return Setup{}, err
	}
	err = d.store.Transaction(ctx, func(tx *store.Store) error {
		a, err := tx.Account(c.Name)
		if err != nil {
			return err
		}
		a.TOTPPending = sealed
		return tx.SaveAccount(a)
	})
	return Setup{key.Secret(), key.URL(), base64.StdEncoding.EncodeToString(picture.Bytes())}, err
}

// ConfirmSecondFactor turns one-time codes on with a first code, and gives recovery codes, once.
// The other sessions of the account end.
func (d *Service) ConfirmSecondFactor(ctx context.Context, c Caller, code string) (recovery []string, err error) {
	if c.Token {
		return nil, ErrNoSession
	}
	return recovery, d.store.Transaction(ctx, func(tx *store.Store) error {
		a, err := tx.Account(c.Name)
		if err != nil {
			return err
		}
		if a.TOTPPending == "" {
			return &InvalidError{"code", "a code of a second factor that is being set up"}
		}
		step, err := d.stepOf(a.TOTPPending, code)
		if err != nil {
			return err
		}
		if step == 0 {
			return &InvalidError{"code", "the six digits that the app shows now"}
		}
		a.TOTP, a.TOTPPending, a.TOTPStep = a.TOTPPending, "", step
		if recovery, err = d.newRecoveryCodes(tx, c.Name); err != nil {
			return err
		}
		return errors.Join(tx.SaveAccount(a), tx.DropSessionsOf(c.Name, c.By))
	})
}

// NewRecoveryCodes replaces the recovery codes of an account that has a second factor.
func (d *Service) NewRecoveryCodes(ctx context.Context, c Caller) (codes []string, err error) {
	if c.Token {
		return nil, ErrNoSession
	}
	return codes, d.store.Transaction(ctx, func(tx *store.Store) error {
		a, err := tx.Account(c.Name)
		if err != nil {
			return err
		}
		if a.TOTP == "" {
			return store.ErrNotFound
		}
		codes, err = d.newRecoveryCodes(tx, c.Name)
		return err
	})
}

// newRecoveryCodes makes codes of 80 bits, in four groups of four letters and digits.
func (d *Service) newRecoveryCodes(tx *store.Store, account string) (codes []string, err error) {
	var rows []store.RecoveryCode
	for range recoveryCodes {
		text := strings.ToLower(rand.Text()[:16])
		code := text[:4] + "-" + text[4:8] + "-" + text[8:12] + "-" + text[12:]
		codes = append(codes, code)
		rows = append(rows, store.RecoveryCode{Account: account, Hash: HashOf(account + " " + text), CreatedAt: d.now()})
	}
	return codes, tx.SetRecoveryCodes(account, rows)
}

// DropSecondFactor turns one-time codes off for an account: for oneself, or for somebody who lost
// their device and their recovery codes.
func (d *Service) DropSecondFactor(ctx context.Context, account string) error {
	return d.store.Transaction(ctx, func(tx *store.Store) error {
		a, err := tx.Account(account)
		if err != nil {
			return err
		}
		if a.TOTP == "" {
			return store.ErrNotFound
		}
		a.TOTP, a.TOTPPending, a.TOTPStep = "", "", 0
		return errors.Join(tx.SaveAccount(a), tx.SetRecoveryCodes(account, nil), tx.DropKnownBrowsers(account))
	})
}

// SecondFactor is the state of an account's second factor.
type SecondFactor struct {
	Active   bool
	Recovery int  // codes that can still be used
	Demanded bool // by a role that the account has
}

// SecondFactorOf gives the state of an account's second factor.
func (d *Service) SecondFactorOf(ctx context.Context, account string) (SecondFactor, error) {
	a, err := d.store.In(ctx).Account(account)
	if err != nil {
		return SecondFactor{}, err
	}
	n, err := d.store.In(ctx).CountRecoveryCodes(account)
	if err != nil {
		return SecondFactor{}, err
	}
	_, grants, err := d.held(ctx, account)
	return SecondFactor{Active: a.TOTP != "", Recovery: int(n), Demanded: d.demanded(grants)}, err
}

// stepOf gives the step, in periods since 1970, of which a code is; 0: it is not one of the codes
// that count now.
func (d *Service) stepOf(sealed, code string) (int64, error) {
	secret, err := d.config.Seal.Open(sealed)
	if err != nil {
		return 0, err
	}
	now := d.now()
	for skew := -codeSkew; skew <= codeSkew; skew++ {
		at := now.Add(time.Duration(skew) * codePeriod)
		want, err := totp.GenerateCodeCustom(secret, at, totp.ValidateOpts{Period: uint(codePeriod.Seconds()), Digits: otp.DigitsSix})
		if err != nil {
			return 0, err
		}
		if subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			return at.Unix() / int64(codePeriod.Seconds()), nil
		}
	}
	return 0, nil
}

// takeCode tells whether a code signs in to an account: a one-time code that was not used yet, or a
// recovery code, which is used up.
func (d *Service) takeCode(ctx context.Context, account, code string) (right bool, err error) {
	text := strings.ToLower(strings.NewReplacer(" ", "", "-", "").Replace(code))
	return right, d.store.Transaction(ctx, func(tx *store.Store) error {
		a, err := tx.Account(account)
		if err != nil {
			return err
		}
		if len(text) != 6 {
			right, err = tx.UseRecoveryCode(account, HashOf(account+" "+text))
			return err
		}
		step, err := d.stepOf(a.TOTP, text)
		if err != nil || step <= a.TOTPStep {
			return err
		}
		a.TOTPStep, right = step, true
		return tx.SaveAccount(a)
	})
}

// verifyAll tells whether a password is right, and where the account has a second factor also the
// code. The error is ErrSecondFactor if the password is right and no code was given.
func (d *Service) verifyAll(ctx context.Context, a store.Account, password, code string) (bool, error) {
	right, err := d.verify(ctx, a.PasswordHash, password)
	if err != nil || !right || a.TOTP == "" {
		return right, err
	}
	if code == "" {
		return false, ErrSecondFactor
	}
	return d.takeCode(ctx, a.Name, code)
}

// Confirm notes that somebody at a session gave their password again, with a code where they have a
// second factor. It is counted like a sign-in.
func (d *Service) Confirm(ctx context.Context, c Caller, password string, from From) error {
	if c.Token {
		return ErrNoSession
	}
	if err := d.Verify(ctx, c, password, from); err != nil {
		return err
	}
	return d.store.Transaction(ctx, func(tx *store.Store) error {
		s, err := tx.Session(c.By)
		if err != nil {
			return err
		}
		s.ConfirmedAt, s.UsedAt = d.now(), d.now()
		return tx.SaveSession(s)
	})
}

// Verify tells whether somebody gave the password of their account, with a code where they have a second factor; the
// error says that they did not. It is counted like a sign-in.
func (d *Service) Verify(ctx context.Context, c Caller, password string, from From) error {
	if a, err := d.store.In(ctx).Account(c.Name); err == nil && a.Subject != "" {
		return &InvalidError{"password", "no password: sign in through your company's issuer again"}
	}
	right, err := d.tries.count(d.now(), []try{from.try(), {"account " + c.Name, accountTries}}, func() (bool, error) {
		a, err := d.store.In(ctx).Account(c.Name)
		if err != nil {
			return false, err
		}
		return d.verifyAll(ctx, a, password, from.Code)
	})
	if err != nil {
		return err
	}
	if !right {
		return &InvalidError{"password", "the password that the account has, and a code that was not used yet"}
	}
	return nil
}
