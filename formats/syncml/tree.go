// This file has the nodes below ./Device/ZenithRidge and how values are written to them.

package syncml

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"zenithridge.example/zridge/core/setting"
)

// Paths of our tree.
const (
	SettingPath  = "./Device/ZenithRidge/Setting/"
	ReportedPath = "./Device/ZenithRidge/Reported/"
	FactPath     = "./Device/ZenithRidge/Fact/"
	DigestPath   = "./Device/ZenithRidge/Digest"
	RevisionPath = "./Device/ZenithRidge/Revision"
	OfferPath    = "./Device/ZenithRidge/Offer/"
	TakenPath    = "./Device/ZenithRidge/Taken"
	WhyPath      = "./Device/ZenithRidge/Why/"
)

// DriftType is the type of the item of a generic alert by which a laptop says what was altered on it.
const DriftType = "example.zenithridge.drift"

// Drift is a value that was altered on a laptop.
type Drift struct {
	Setting  setting.ID    `json:"setting"`
	Found    setting.Value `json:"found"` // nothing: it was not in force any more
	At       time.Time     `json:"at"`
	By       string        `json:"by,omitempty"` // who may have altered it, as far as the laptop can tell
	Repaired bool          `json:"repaired"`     // it was put right at once
}

// WriteDrifts gives what was altered as the item of a generic alert.
func WriteDrifts(drifts []Drift) Item {
	data, m := writeJSON(drifts)
	m.Type = DriftType
	return Item{Meta: m, Data: data}
}

// ReadDrifts reads what WriteDrifts writes.
func ReadDrifts(data string) (drifts []Drift, err error) {
	if err := json.Unmarshal([]byte(data), &drifts); err != nil {
		return nil, fmt.Errorf("found %.40q, expected a JSON list of what was altered", data)
	}
	return drifts, nil
}

// Why is what a laptop shows to its person of a managed setting.
type Why struct {
	Title    string      `json:"title,omitempty"`
	Policies []WhyPolicy `json:"policies,omitempty"` // that decided it, or the exception
	OnDrift  string      `json:"on_drift,omitempty"` // OnlyReport, or nothing
}

// OnlyReport says that a value that is altered is not put right.
const OnlyReport = "report"

// WhyPolicy is a policy, or an exception, that decided a setting.
type WhyPolicy struct {
	Title  string `json:"title"`
	Reason string `json:"reason,omitempty"`
	Owner  string `json:"owner,omitempty"` // who answers for it, as people know them
}

// WriteWhy gives what is shown of a setting as the data of a node below WhyPath, with its format and type.
func WriteWhy(w Why) (data string, m Meta) { return writeJSON(w) }

// ReadWhy reads what WriteWhy writes.
func ReadWhy(data string) (w Why, err error) {
	if err := json.Unmarshal([]byte(data), &w); err != nil {
		return w, fmt.Errorf("found %.40q, expected a JSON object", data)
	}
	return w, nil
}

// Offer is what a laptop shows to its person of a policy that is offered.
type Offer struct {
	Title       string `json:"title"`
	Description string `json:"description,omitempty"`
}

// WriteOffer gives an offer as the data of a node below OfferPath, with its format and type.
func WriteOffer(o Offer) (data string, m Meta) { return writeJSON(o) }

// ReadOffer reads what WriteOffer writes.
func ReadOffer(data string) (o Offer, err error) {
	if err := json.Unmarshal([]byte(data), &o); err != nil || o.Title == "" {
		return o, fmt.Errorf("found %.40q, expected a JSON object with a title", data)
	}
	return o, nil
}

// WriteTaken gives the ids of the policies that a person took as the data of the node TakenPath, with its
// format and type.
func WriteTaken(policies []string) (data string, m Meta) {
	return writeJSON(append([]string{}, policies...))
}

// ReadTaken reads what WriteTaken writes.
func ReadTaken(data string) (policies []string, err error) {
	if err := json.Unmarshal([]byte(data), &policies); err != nil || policies == nil {
		return nil, fmt.Errorf("found %.40q, expected a JSON list of texts", data)
	}
	return policies, nil
}

// writeJSON gives something that always has a JSON form as the data of a node.
func writeJSON(v any) (data string, m Meta) {
	text, _ := json.Marshal(v)
	return string(text), Meta{Format: FormatText, Type: "application/json"}
}

// SettingOf gives the setting that a path below SettingPath or ReportedPath names.
func SettingOf(path string) (setting.ID, bool) {
	for _, base := range []string{SettingPath, ReportedPath} {
		if id, ok := strings.CutPrefix(path, base); ok && id != "" && !strings.Contains(id, "/") {
			return setting.ID(id), true
		}
	}
	return "", false
}

// WriteValue gives a value as the data of a node, with its format and type.
func WriteValue(v setting.Value) (data string, m Meta) {
	switch v.Kind() {
	case setting.Bool:
		return strconv.FormatBool(v.Bool()), Meta{Format: FormatBool, Type: "text/plain"}
	case setting.Integer:
		return strconv.FormatInt(v.Integer(), 10), Meta{Format: FormatInt, Type: "text/plain"}
	case setting.List, setting.Table, setting.FileKind:
		return writeJSON(v)
	}
	return v.Text(), Meta{Format: FormatText, Type: "text/plain"}
}

// ReadValue reads what WriteValue writes.
func ReadValue(data string, m Meta) (setting.Value, error) {
	switch {
	case m.Format == FormatBool && (data == "true" || data == "false"):
		return setting.BoolValue(data == "true"), nil
	case m.Format == FormatInt:
		n, err := strconv.ParseInt(data, 10, 64)
		if err != nil {
			return setting.Value{}, fmt.Errorf("found %.40q, expected a whole number", data)
		}
		return setting.IntegerValue(n), nil
	case m.Format == FormatText && m.Type == "application/json":
		var v setting.Value
		if err := json.Unmarshal([]byte(data), &v); err != nil || v.Kind() < setting.List {
			return setting.Value{}, fmt.Errorf("found %.40q, expected a JSON list of texts, table or file", data)
		}
		return v, nil
	case m.Format == FormatText:
		return setting.TextValue(data), nil
	}
	return setting.Value{}, fmt.Errorf("found the format %.20q, expected bool, int or chr", m.Format)
}

// ReportDigest is the SHA-256 over all reported values in the order of their ids, each as its id, a
// line feed, its data and a line feed.
func ReportDigest(reported map[setting.ID]setting.Value) string {
	ids := make([]setting.ID, 0, len(reported))
	for id := range reported {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	h := sha256.New()
	for _, id := range ids {
		data, _ := WriteValue(reported[id])
		fmt.Fprintf(h, "%s\n%s\n", id, data)
	}
	return hex.EncodeToString(h.Sum(nil))
}
