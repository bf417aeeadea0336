// This file names the settings that decide how disks are encrypted and recovery keys are kept. The
// core resolves them like all others. The agent acts on them on the laptop; the service reads how
// keys are to be kept, who may see them and when they must be replaced. They are the only settings
// that the service knows by name.

package recovery

import "zenithridge.example/zridge/core/setting"

// Settings by which policies say how recovery keys are handled. Laptops and the service act on them.
const (
	EncryptionRequired setting.ID = "disk.encryption.required"         // bool
	EscrowTo           setting.ID = "disk.recovery.escrow"             // EscrowOff, EscrowAddress or EscrowService
	AddressOfEscrow    setting.ID = "disk.recovery.escrow_address"     // with EscrowAddress: where keys are sent
	RecipientsOfEscrow setting.ID = "disk.recovery.escrow_recipients"  // list: to whom keys are sealed
	EscrowFirst        setting.ID = "disk.recovery.escrow_first"       // bool: nothing is encrypted before the key is stored
	MaxAgeDays         setting.ID = "disk.recovery.key_age_days"       // integer
	SecondPerson       setting.ID = "disk.recovery.second_person"      // bool: somebody else consents before a key is shown
	OwnKeyShown        setting.ID = "disk.recovery.own_key_shown"      // bool: an owner may see the key of their laptop
	NewKeyAfterUse     setting.ID = "disk.recovery.new_key_after_use"  // bool
	HideChoices        setting.ID = "disk.recovery.hide_choices"       // bool
	KeyPerDevice       setting.ID = "disk.recovery.key_per_device"     // bool
	MethodOfSystem     setting.ID = "disk.encryption.method"           // choice
	MethodOfFixed      setting.ID = "disk.encryption.method_fixed"     // choice
	MethodOfRemovable  setting.ID = "disk.encryption.method_removable" // choice
	Scope              setting.ID = "disk.encryption.scope"            // choice: used-space, whole-disk
	Silent             setting.ID = "disk.encryption.silent"           // bool
	RemovableEncrypted setting.ID = "disk.encryption.removable"        // bool: nothing is written to plain removable media
	StartupExtra       setting.ID = "disk.startup.extra"               // bool: what follows counts
	StartupChip        setting.ID = "disk.startup.chip"                // choice: forbid, allow, require
	StartupPIN         setting.ID = "disk.startup.pin"                 // choice: forbid, allow, require
	StartupKey         setting.ID = "disk.startup.key"                 // choice: forbid, allow, require
	StartupKeyWithPIN  setting.ID = "disk.startup.key_with_pin"        // choice: forbid, allow, require
	PINLength          setting.ID = "disk.startup.pin_length"          // integer
)

// Values of EscrowTo.
const (
	EscrowOff     = "off"
	EscrowAddress = "address"
	EscrowService = "service"
)
