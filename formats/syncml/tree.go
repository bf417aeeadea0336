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
)

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
