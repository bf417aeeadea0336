// This file reads lists of people or laptops that somebody pasted.

package workflow

import (
	"strings"

	"zenithridge.example/zridge/core/estate"
)

// Pasted is what a list of serial numbers or ids names.
type Pasted struct {
	Devices []estate.DeviceID // in the order of the list
	Unknown []string
	Doubled []string
}

// Paste finds devices by serial number or id, without regard to case.
func (v View) Paste(words []string) Pasted {
	at := map[string]estate.DeviceID{}
	devices := v.Plan.Snapshot().Devices
	for i := range devices {
		at[strings.ToLower(string(devices[i].ID))] = devices[i].ID
	}
	for i := range devices { // a serial number says more than an id
		if devices[i].Serial != "" {
			at[strings.ToLower(devices[i].Serial)] = devices[i].ID
		}
	}
	var out Pasted
	seen := map[estate.DeviceID]bool{}
	for _, word := range words {
		word = strings.Trim(strings.TrimSpace(word), `"',;`)
		id, known := at[strings.ToLower(word)]
		switch {
		case word == "":
		case !known:
			out.Unknown = append(out.Unknown, word)
		case seen[id]:
			out.Doubled = append(out.Doubled, word)
		default:
			seen[id] = true
			out.Devices = append(out.Devices, id)
		}
	}
	return out
}
