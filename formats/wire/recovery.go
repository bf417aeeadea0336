// This file has recovery keys, and how far laptops are covered, as the API gives them.

package wire

import "time"

type (
	// Named is something with its title.
	Named struct {
		ID    string `json:"id"`
		Title string `json:"title"`
	}

	// Volume is a volume of a laptop, as the laptop reports it.
	Volume struct {
		ID      string   `json:"id"`
		Name    string   `json:"name"`
		Kind    string   `json:"kind" enum:"system,fixed,removable"`
		State   string   `json:"state" enum:"plain,waiting,encrypting,encrypted,cannot"`
		Reason  string   `json:"reason,omitempty" doc:"Why it is not encrypted, in the laptop's words"`
		Method  string   `json:"method,omitempty"`
		Startup []string `json:"startup" doc:"What opens it besides the recovery key: passphrase, chip, pin, key"`
		Weak    string   `json:"weak,omitempty" doc:"What is weaker about it than it should be"`
	}

	// FoundLaptop is a laptop that may be the one that somebody calls about. It has no key and no identifier of one.
	FoundLaptop struct {
		Device    string     `json:"device"`
		Serial    string     `json:"serial,omitempty"`
		Differs   []int      `json:"differs" doc:"Places in the serial number, from 0, that are otherwise than what was asked"`
		Model     string     `json:"model,omitempty"`
		Owner     *Named     `json:"owner,omitempty"`
		Users     []Named    `json:"users"`
		Unit      Named      `json:"unit"`
		Volumes   []Volume   `json:"volumes"`
		KeySince  *time.Time `json:"key_since,omitempty" doc:"Since when its oldest key is in force; absent: none is"`
		KeyUsedAt *time.Time `json:"key_used_at,omitempty" doc:"When a key that is still in force was shown"`
		Retired   bool       `json:"retired,omitempty" doc:"It is not in the estate any more, and is told as it was published last"`
	}

	// RecoveryKey is what is told of a key.
	RecoveryKey struct {
		Volume     string     `json:"volume"`
		Name       string     `json:"name"`
		Identifier string     `json:"identifier,omitempty" doc:"Of keys that were replaced alone: those in force are read at the locked laptop"`
		State      string     `json:"state" enum:"stored,current,replaced" doc:"stored: the laptop has not said yet that it opens the volume"`
		Recipients []string   `json:"recipients" doc:"To whom it is sealed"`
		MadeAt     time.Time  `json:"made_at"`
		StoredAt   time.Time  `json:"stored_at"`
		Since      *time.Time `json:"since,omitempty"`
		Until      *time.Time `json:"until,omitempty"`
		UsedAt     *time.Time `json:"used_at,omitempty"`
		UsedBy     string     `json:"used_by,omitempty"`
		RenewalAt  *time.Time `json:"renewal_at,omitempty" doc:"When another key in its place was asked for"`
	}

	// KeyHistory is the keys of a laptop, and who asked for them.
	KeyHistory struct {
		Device     string        `json:"device"`
		Model      string        `json:"model,omitempty"`
		Volumes    []Volume      `json:"volumes"`
		ReportedAt *time.Time    `json:"reported_at,omitempty" doc:"Absent: the laptop has not reported its volumes"`
		Keys       []RecoveryKey `json:"keys" doc:"The newest first"`
		Requests   []KeyRequest  `json:"requests" doc:"The newest first; for whoever may see the keys"`
		MaySee     bool          `json:"may_see"`
		Recipients []string      `json:"recipients" doc:"To whom its policies want its keys to be sealed"`
		Second     bool          `json:"second_person" doc:"A second person has to consent before a key is shown"`
	}

	// KeyAsk is what somebody says who asks to see a key, after comparing it at the laptop.
	KeyAsk struct {
		Device     string `json:"device" maxLength:"128"`
		Identifier string `json:"identifier" maxLength:"40" doc:"The 12 digits that the locked screen shows"`
		Person     string `json:"person" maxLength:"128" doc:"Id of the person who stands before the laptop"`
		Model      string `json:"model" maxLength:"200" doc:"As it is printed on the laptop"`
		Reason     string `json:"reason" maxLength:"2000" doc:"Why the key is needed: 10 to 500 characters"`
	}

	// KeyRequest is a request to see a key, good for one look.
	KeyRequest struct {
		ID         string     `json:"id"`
		Device     string     `json:"device"`
		Identifier string     `json:"identifier,omitempty"`
		Person     string     `json:"person"`
		Reason     string     `json:"reason"`
		By         string     `json:"by"`
		At         time.Time  `json:"at"`
		ExpiresAt  time.Time  `json:"expires_at"`
		State      string     `json:"state" enum:"waiting,open,shown,refused" doc:"waiting: for a second person; open: the key may be shown, once"`
		ConsentBy  string     `json:"consent_by,omitempty" doc:"The second person, who consented or refused"`
		ConsentAt  *time.Time `json:"consent_at,omitempty"`
		ShownAt    *time.Time `json:"shown_at,omitempty"`
	}

	// KeyDecision is what a second person decides.
	KeyDecision struct {
		Consent bool `json:"consent"`
	}

	// KeyLook asks for the key of a request.
	KeyLook struct {
		Password string `json:"password,omitempty" maxLength:"1024" doc:"Of a caller with a token, who is asked for it each time"`
		Code     string `json:"code,omitempty" maxLength:"40" doc:"Their one-time code, where they have a second factor"`
	}

	// ShownKey is a recovery key, given once.
	ShownKey struct {
		Device     string   `json:"device"`
		Name       string   `json:"name" doc:"Of the volume that it opens"`
		Identifier string   `json:"identifier"`
		Key        string   `json:"key,omitempty" doc:"In groups of four letters; it is typed without the spaces. Absent: the service cannot open it"`
		Sealed     string   `json:"sealed,omitempty" doc:"The key as it is stored, in base64 of the form of age, where the service cannot open it"`
		Recipients []string `json:"recipients" doc:"Who can open what is sealed"`
		Seconds    int      `json:"seconds" doc:"How long it may stay on a screen"`
	}

	// KeyRenewal asks for another key.
	KeyRenewal struct {
		Identifier string `json:"identifier,omitempty" maxLength:"40" doc:"Absent: all keys of the laptop"`
	}

	// RenewalsAsked is how many keys a laptop was asked to replace.
	RenewalsAsked struct {
		Keys int `json:"keys"`
	}

	// UnitCoverage is how far the laptops of a unit are covered, with those of the units below it.
	UnitCoverage struct {
		Unit   string         `json:"unit"`
		Title  string         `json:"title"`
		Depth  int            `json:"depth" doc:"How many units are above it"`
		Counts CoverageCounts `json:"counts"`
	}

	// CoverageCounts is how many laptops are in each group. A laptop may be in several.
	CoverageCounts struct {
		All           int `json:"all"`
		Demanded      int `json:"demanded" doc:"A policy demands encryption"`
		Encrypted     int `json:"encrypted" doc:"Every fixed volume is encrypted"`
		Escrowed      int `json:"escrowed" doc:"Encrypted, and each volume opens with a key that is stored"`
		NotEscrowed   int `json:"not_escrowed" doc:"A volume is encrypted, and no key of it is stored"`
		NotEncrypted  int `json:"not_encrypted" doc:"Encryption is demanded, and has not begun or not ended"`
		Cannot        int `json:"cannot" doc:"Encryption is demanded, and the laptop says that it cannot"`
		NeverReported int `json:"never_reported" doc:"Encryption is demanded, and the laptop has not reported its volumes"`
		NotRenewed    int `json:"not_renewed" doc:"A key was shown, and still opens its volume"`
		TooOld        int `json:"too_old" doc:"A key is older than a policy allows"`
		NotResealed   int `json:"not_resealed" doc:"A key is not sealed to the recipients that a policy names"`
	}

	// CoverageDay is how far laptops were covered on a day.
	CoverageDay struct {
		Day    string         `json:"day"`
		Counts CoverageCounts `json:"counts"`
	}

	// CoveredLaptop is a laptop with how it is covered.
	CoveredLaptop struct {
		Device   string     `json:"device"`
		Model    string     `json:"model,omitempty"`
		Owner    *Named     `json:"owner,omitempty"`
		Unit     Named      `json:"unit"`
		Groups   []string   `json:"groups"`
		Volumes  []Volume   `json:"volumes"`
		KeySince *time.Time `json:"key_since,omitempty"`
		UsedAt   *time.Time `json:"used_at,omitempty"`
		SeenAt   *time.Time `json:"seen_at,omitempty" doc:"When it reported its volumes"`
	}

	// RecoveryFinding is something about recovery keys that somebody has to look at.
	RecoveryFinding struct {
		Code    string   `json:"code" enum:"no-recipient,no-escrow,unknown-recipient,destroyed-recipient,recipient-due,owner-left,not-renewed,weak-volume"`
		Laptops int      `json:"laptops"`
		Devices []string `json:"devices" doc:"The first hundred"`
		What    string   `json:"what,omitempty" doc:"The recipient, or the person"`
		Day     string   `json:"day,omitempty"`
	}

	// EscrowRecipient is somebody to whom keys are sealed.
	EscrowRecipient struct {
		Recipient   string     `json:"recipient" doc:"The public half: a text that begins with age1"`
		Title       string     `json:"title,omitempty" doc:"Absent: a policy names it, and nobody registered it"`
		Holder      string     `json:"holder,omitempty" enum:"service,company" doc:"Of the private half"`
		Usable      bool       `json:"usable" doc:"The service has its private half"`
		MadeAt      *time.Time `json:"made_at,omitempty"`
		MadeBy      string     `json:"made_by,omitempty"`
		ReplaceOn   string     `json:"replace_on,omitempty" doc:"The day by which another is to take its place"`
		DestroyedAt *time.Time `json:"destroyed_at,omitempty"`
		DestroyedBy string     `json:"destroyed_by,omitempty"`
		Named       int        `json:"named" doc:"Laptops whose policies name it"`
		Keys        int        `json:"keys" doc:"Keys in force, or stored, that are sealed to it"`
		Alone       int        `json:"alone" doc:"Of these, those that are sealed to nobody else"`
		Earlier     int        `json:"earlier" doc:"Keys that were replaced and are sealed to it"`
		Blocks      string     `json:"blocks,omitempty" doc:"Why it cannot be destroyed yet"`
	}

	// NewRecipient is somebody to whom keys are to be sealed.
	NewRecipient struct {
		Title     string `json:"title" maxLength:"400"`
		Recipient string `json:"recipient,omitempty" maxLength:"200" doc:"The public half of a company's identity. Absent: the service makes one of its own"`
		ReplaceOn string `json:"replace_on,omitempty" maxLength:"10"`
	}

	// RecipientReplacement is the day by which another recipient is to take the place of one.
	RecipientReplacement struct {
		ReplaceOn string `json:"replace_on" maxLength:"10" doc:"Empty: none"`
	}
)
