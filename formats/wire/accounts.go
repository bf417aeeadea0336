// This file has accounts, sessions, tokens and the audit log as the API gives them.

package wire

import (
	"time"

	"zenithridge.example/zridge/core/audit"
)

type (
	// Who is the caller.
	Who struct {
		Name   string   `json:"name"`
		Role   string   `json:"role" doc:"The roles that the caller has, in words"`
		Rights []string `json:"rights" doc:"What the caller may do, everywhere or for some unit"`
		Grants []Grant  `json:"grants" doc:"By which the caller may do it"`
		// Within has the rights that are held for some units alone.
		Within map[string][]string `json:"within,omitempty" doc:"By right: the units for which alone it is held"`
		Via    string              `json:"via" enum:"console,cli,api"`
		// EndsAt is when the session ends unless it is used; tokens have none.
		EndsAt *time.Time `json:"ends_at,omitempty"`
		// FactorNeeded says that a role demands a second factor: until it is set up, the caller may
		// do nothing.
		FactorNeeded bool `json:"factor_needed,omitempty"`
		// PasswordDue says that somebody else chose the password: until the caller chooses another
		// one, the caller may do nothing.
		PasswordDue bool `json:"password_due,omitempty"`
		// Clock is there where the service does not count in real time.
		Clock *Clock `json:"clock,omitempty"`
	}
	// Clock is the time that rollouts and check-ins count in.
	Clock struct {
		Now   time.Time `json:"now"`
		Speed float64   `json:"speed" doc:"1 is that of real time"`
	}

	// Credentials sign somebody in.
	Credentials struct {
		Name     string `json:"name" maxLength:"64"`
		Password string `json:"password" maxLength:"1024" format:"password"`
		Code     string `json:"code,omitempty" maxLength:"40" doc:"Of the second factor, or a recovery code; needed where the account has one"`
	}

	// Passkey is a key of a device by which somebody signs in.
	Passkey struct {
		ID        string     `json:"id"`
		Name      string     `json:"name"`
		CreatedAt time.Time  `json:"created_at"`
		UsedAt    *time.Time `json:"used_at,omitempty"`
	}

	// PasskeyOptions are the options of WebAuthn for a browser, in the JSON form of the standard.
	PasskeyOptions struct {
		ID      string `json:"id,omitempty" doc:"Names the options when the answer is sent"`
		Options any    `json:"options"`
	}

	// NewPasskey is what a device made, in the JSON form of WebAuthn.
	NewPasskey struct {
		Name       string         `json:"name" maxLength:"80" doc:"Says which device it is"`
		Credential map[string]any `json:"credential"`
	}

	// PasskeyAnswer is what a device answered, in the JSON form of WebAuthn.
	PasskeyAnswer struct {
		ID         string         `json:"id" maxLength:"64"`
		Credential map[string]any `json:"credential"`
	}

	// WaysToSignIn says how people can sign in, besides with a password.
	WaysToSignIn struct {
		Issuer string `json:"issuer,omitempty" doc:"What people know the OpenID Connect issuer by, at /api/v1/oidc/start; absent: there is none"`
	}

	// Confirmation says again who sits at a session.
	Confirmation struct {
		Password string `json:"password" maxLength:"1024" format:"password"`
		Code     string `json:"code,omitempty" maxLength:"40"`
	}

	// SecondFactor is the state of an account's second factor.
	SecondFactor struct {
		Active   bool `json:"active"`
		Recovery int  `json:"recovery" doc:"Recovery codes that can still be used"`
		Demanded bool `json:"demanded" doc:"A role that the account has demands it"`
	}

	// SecondFactorSetup is what an app of one-time codes (RFC 6238) needs.
	SecondFactorSetup struct {
		Secret  string `json:"secret" doc:"For typing"`
		Address string `json:"address" doc:"otpauth://…"`
		Picture string `json:"picture" doc:"QR code of the address: the base64 of a PNG"`
	}

	// OneTimeCode is a code that an app shows.
	OneTimeCode struct {
		Code string `json:"code" maxLength:"40"`
	}

	// RecoveryCodes sign in once each in the place of a one-time code. They are shown once.
	RecoveryCodes struct {
		Codes []string `json:"codes"`
	}

	// SetUp makes the first administrator.
	SetUp struct {
		Code     string `json:"code" maxLength:"64"`
		Name     string `json:"name" maxLength:"64"`
		Password string `json:"password" maxLength:"1024" format:"password"`
	}

	// NewAccount adds an account.
	NewAccount struct {
		Name     string `json:"name" maxLength:"64"`
		Password string `json:"password" maxLength:"1024" format:"password"`
		Role     string `json:"role,omitempty" maxLength:"40" doc:"That counts everywhere and for good; without it the account may do nothing until it gets a grant"`
		Chosen   bool   `json:"chosen,omitempty" doc:"The person chose the password. Without it they choose another one at their first sign-in, before anything else"`
	}

	// Account is somebody who may sign in.
	Account struct {
		Name      string    `json:"name"`
		Role      string    `json:"role" doc:"The roles that it has today, in words"`
		Disabled  bool      `json:"disabled,omitempty"`
		CreatedAt time.Time `json:"created_at"`
	}

	// AlteredAccount says what becomes of an account.
	AlteredAccount struct {
		Disabled bool `json:"disabled"`
	}

	// NewPassword changes the password of the caller's account.
	NewPassword struct {
		Old string `json:"old" maxLength:"1024" format:"password"`
		New string `json:"new" maxLength:"1024" format:"password"`
	}

	// Session is a browser that is signed in.
	Session struct {
		ID        string    `json:"id" doc:"Names the session, and opens nothing"`
		Address   string    `json:"address,omitempty"`
		CreatedAt time.Time `json:"created_at"`
		ExpiresAt time.Time `json:"expires_at"`
		Own       bool      `json:"own,omitempty" doc:"The session that asks"`
	}

	// NewToken asks for a token.
	NewToken struct {
		Name string `json:"name" maxLength:"100" doc:"What the token is for"`
		Role string `json:"role,omitempty" maxLength:"40" doc:"The token has the rights of this role that its owner has; without it all rights of its owner"`
		Days int    `json:"days" minimum:"1" maximum:"366"`
	}

	// Token is a program's way in. Secret is given once, when it is made.
	Token struct {
		ID        string    `json:"id"`
		Name      string    `json:"name"`
		Role      string    `json:"role,omitempty"`
		CreatedAt time.Time `json:"created_at"`
		ExpiresAt time.Time `json:"expires_at"`
		Secret    string    `json:"secret,omitempty"`
	}

	// AuditRecord says who did what.
	AuditRecord struct {
		Seq     int64     `json:"seq"`
		At      time.Time `json:"at"`
		By      string    `json:"by"`
		Via     string    `json:"via"`
		Request string    `json:"request,omitempty" doc:"Id of the request, which the service's log has, too"`
		Action  string    `json:"action"`
		Kind    string    `json:"kind,omitempty"`
		ID      string    `json:"id,omitempty"`
		Change  string    `json:"change,omitempty"`
		Before  string    `json:"before,omitempty"`
		After   string    `json:"after,omitempty"`
		Hash    string    `json:"hash,omitempty" doc:"SHA-256 over the record and the hash of the one before"`
	}

	// AuditCopies is checkpoints of the audit log that somebody kept elsewhere.
	AuditCopies struct {
		Checkpoints []audit.Checkpoint `json:"checkpoints" maxItems:"20000"`
	}
)
