// This file has baselines as the API gives them, and how laptops stand to them.

package wire

import (
	"encoding/json"
	"time"

	"zenithridge.example/zridge/core/setting"
)

type (
	// ComplianceCount is how many laptops comply.
	ComplianceCount struct {
		Laptops  int         `json:"laptops"`
		Complies int         `json:"complies"`
		Differs  int         `json:"differs" doc:"Some setting is not as the baseline wants it"`
		Unknown  int         `json:"unknown" doc:"None differs, and some was not reported yet"`
		Percent  json.Number `json:"percent" doc:"That comply, of all"`
	}

	// BaselineSummary is a baseline with how its laptops stand.
	BaselineSummary struct {
		ID         string          `json:"id"`
		Title      string          `json:"title,omitempty"`
		Why        string          `json:"why,omitempty"`
		Owner      string          `json:"owner,omitempty"`
		Settings   int             `json:"settings"`
		AlertBelow json.Number     `json:"alert_below,omitempty"`
		Below      bool            `json:"below" doc:"Fewer laptops comply than its line wants"`
		Count      ComplianceCount `json:"count"`
	}

	// UnitCompliance is how the laptops of a unit, with what is below it, stand.
	UnitCompliance struct {
		Unit  string          `json:"unit"`
		Title string          `json:"title,omitempty"`
		Count ComplianceCount `json:"count"`
	}

	// ItemCompliance is how laptops stand to a setting of a baseline.
	ItemCompliance struct {
		Setting     string        `json:"setting"`
		Title       string        `json:"title,omitempty"`
		Value       setting.Value `json:"value"`
		Severity    string        `json:"severity" enum:"critical,high,medium,low"`
		Category    string        `json:"category,omitempty"`
		OnDrift     string        `json:"on_drift" enum:"repair,report"`
		Complies    int           `json:"complies"`
		Differs     int           `json:"differs"`
		Overridden  int           `json:"overridden" doc:"A policy wants another value, which counts"`
		NotReported int           `json:"not_reported"`
		Unsupported int           `json:"unsupported"`
		Policies    []string      `json:"policies" doc:"That want on some laptops what does not comply"`
	}

	// ComplianceDay is how the laptops stood at the end of a day.
	ComplianceDay struct {
		Day   string          `json:"day"`
		Count ComplianceCount `json:"count"`
	}

	// Compliance is how laptops stand to a baseline.
	Compliance struct {
		Baseline BaselineSummary  `json:"baseline"`
		Units    []UnitCompliance `json:"units" doc:"Each with what is below it"`
		Items    []ItemCompliance `json:"items" doc:"The worst first"`
		Days     []ComplianceDay  `json:"days" doc:"The earliest first"`
	}

	// LaptopCompliance is how a laptop stands to a baseline.
	LaptopCompliance struct {
		Baseline string           `json:"baseline"`
		Title    string           `json:"title,omitempty"`
		Device   string           `json:"device"`
		Unit     string           `json:"unit"`
		State    string           `json:"state" enum:"complies,differs,unknown"`
		Failing  []FailingSetting `json:"failing"`
		At       time.Time        `json:"at"`
	}

	// FailingSetting is a setting of a laptop that is not as a baseline wants it.
	FailingSetting struct {
		Setting string         `json:"setting"`
		Title   string         `json:"title,omitempty"`
		Verdict string         `json:"verdict" enum:"differs,overridden,not-reported,unsupported"`
		Has     *setting.Value `json:"has,omitempty"`
	}
)
