// This file has what laptops and the service say to each other of recovery keys and encrypted volumes.

package syncml

import (
	"encoding/json"
	"fmt"
	"strings"

	"zenithridge.example/zridge/core/recovery"
)

// Types of the items of generic alerts.
const (
	// RecoveryKeyType is a sealed recovery key that is to be stored. The laptop may use the key once the alert's status
	// is OK: then it is stored.
	RecoveryKeyType = "example.zenithridge.recovery-key"
	// VolumesType is how the volumes of a laptop are.
	VolumesType = "example.zenithridge.volumes"
)

// RecoveryKeyPath is the node below which a laptop has its recovery keys, by identifier. Exec asks it to put another key
// in the place of one; it answers AcceptedForLater, and does it after the session.
const RecoveryKeyPath = "./Device/ZenithRidge/RecoveryKey/"

// WriteSealedKey gives a sealed key as the item of a generic alert.
func WriteSealedKey(k recovery.SealedKey) Item {
	data, m := writeJSON(k)
	m.Type = RecoveryKeyType
	return Item{Meta: m, Data: data}
}

// ReadSealedKey reads what WriteSealedKey writes.
func ReadSealedKey(data string) (k recovery.SealedKey, err error) {
	if err := json.Unmarshal([]byte(data), &k); err != nil || k.Volume == "" {
		return k, fmt.Errorf("expected a JSON object with a sealed recovery key and its volume")
	}
	k.Identifier, err = recovery.ParseIdentifier(string(k.Identifier))
	return k, err
}

// WriteVolumes gives how volumes are as the item of a generic alert.
func WriteVolumes(volumes []recovery.Volume) Item {
	data, m := writeJSON(append([]recovery.Volume{}, volumes...))
	m.Type = VolumesType
	return Item{Meta: m, Data: data}
}

// ReadVolumes reads what WriteVolumes writes.
func ReadVolumes(data string) (volumes []recovery.Volume, err error) {
	if err := json.Unmarshal([]byte(data), &volumes); err != nil || volumes == nil {
		return nil, fmt.Errorf("found %.40q, expected a JSON list of volumes", data)
	}
	return volumes, nil
}

// RecoveryKeyOf gives the identifier that a path below RecoveryKeyPath names.
func RecoveryKeyOf(path string) (id recovery.Identifier, is bool) {
	text, is := strings.CutPrefix(path, RecoveryKeyPath)
	id, err := recovery.ParseIdentifier(text)
	return id, is && err == nil
}
