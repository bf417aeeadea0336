// This file says in sentences what a person meets at the next start of a laptop, so that whoever
// writes a policy for the start of the system disk, and whoever has to tell people, knows it
// beforehand.

package recovery

import (
	"fmt"

	"zenithridge.example/zridge/core/setting"
)

// Words of the settings that say how the system disk is opened at the start.
const (
	Forbid  = "forbid"
	Require = "require"
)

// AtNextStart says what a person meets at the next start of a laptop that gets these values, in
// sentences, in the order in which they meet it; nothing where the values do not alter the start.
// of gives the value of a setting; nothing where there is none.
func AtNextStart(of func(setting.ID) setting.Value) (out []string) {
	// Without a value of its own, what is said of the start counts.
	extra := of(StartupExtra)
	// asks: the person must have or know something, and may lose or forget it.
	asks := false
	if of(EncryptionRequired).Bool() {
		if of(Silent).Bool() {
			out = append(out, "Encryption begins without a question, and the laptop can be used meanwhile.")
		} else {
			out = append(out, "The person is asked whether encryption may begin, and may put it off.")
		}
	}
	if extra.IsNothing() || extra.Bool() {
		// A chip takes no PIN that is shorter, whatever the policy says.
		length := max(of(PINLength).Integer(), leastPIN)
		if of(StartupPIN).Text() == Require {
			asks = true
			out = append(out, fmt.Sprintf("The person chooses a PIN of at least %d digits, and types it at every start from then on. "+
				"After several wrong ones the security chip makes them wait, longer each time.", length))
		}
		if of(StartupKey).Text() == Require {
			asks = true
			out = append(out, "The laptop starts only while a USB stick with the startup key is plugged in. Without the stick it "+
				"asks for the recovery key.")
		}
		if of(StartupKeyWithPIN).Text() == Require {
			asks = true
			out = append(out, "The laptop starts only with a USB stick that has the startup key, and a PIN. Whoever lacks one of the "+
				"two needs the recovery key.")
		}
		if of(StartupChip).Text() == Require && !asks {
			out = append(out, "The laptop starts as before: the security chip opens the disk, and nobody is asked anything. After "+
				"its firmware was altered it asks for the recovery key.")
		}
	}
	// Nobody can forget anything.
	if !asks {
		return out
	}
	switch to := of(EscrowTo).Text(); {
	case to == EscrowOff:
		out = append(out, "Who forgets it loses what is on the disk: recovery keys are kept nowhere.")
	default:
		second := ""
		if of(SecondPerson).Bool() {
			second = " A second person there has to consent."
		}
		out = append(out, "Who forgets it calls the service desk, reads out the identifier on the locked screen, and types the "+
			"recovery key that they are told."+second+" It takes a telephone, and works without a network.")
	}
	return out
}

// leastPIN is the shortest PIN that a security chip is asked to take, in digits.
const leastPIN = 4 // digits
