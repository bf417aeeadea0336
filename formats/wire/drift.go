// This file has what was altered on laptops, as the API gives it.

package wire

import (
	"time"

	"zenithridge.example/zridge/core/setting"
)

type (
	// Drift is what was altered on laptops.
	Drift struct {
		Records []DriftRecord `json:"records" doc:"The newest first"`
		Fights  []Fight       `json:"fights" doc:"Settings that were put right more than three times on one laptop within the last day: another program sets them, too"`
	}

	// DriftRecord is a value that was altered on a laptop.
	DriftRecord struct {
		Device   string         `json:"device"`
		Setting  string         `json:"setting"`
		Title    string         `json:"title,omitempty"`
		At       time.Time      `json:"at"`
		Found    *setting.Value `json:"found,omitempty" doc:"Absent: nothing was in force any more"`
		Wanted   *setting.Value `json:"wanted,omitempty"`
		By       string         `json:"by,omitempty" doc:"Who altered it, as far as the laptop can tell"`
		Repaired bool           `json:"repaired" doc:"It was put right. Otherwise it was left as it was, as its policies say"`
		Policies []string       `json:"policies" doc:"That decided the setting"`
	}

	// Fight is a setting that is put right on laptops again and again.
	Fight struct {
		Setting  string   `json:"setting"`
		Title    string   `json:"title,omitempty"`
		Policies []string `json:"policies" doc:"That decided it"`
		Devices  []string `json:"devices" doc:"The one on which it was put right most often first"`
		Times    int      `json:"times" doc:"That it was put right within the last day, on all of them"`
	}
)
