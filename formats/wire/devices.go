// This file has laptops as the API gives them: what they get, what was sent to them, their
// check-ins.

package wire

import (
	"time"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
)

type (
	// Device is a device on the board.
	Device struct {
		ID        string                   `json:"id"`
		Serial    string                   `json:"serial,omitempty"`
		Owner     string                   `json:"owner,omitempty"`
		OwnerName string                   `json:"owner_name,omitempty"`
		Unit      string                   `json:"unit"`
		OS        string                   `json:"os"`
		OSVersion string                   `json:"os_version"`
		Edition   string                   `json:"edition,omitempty"`
		Model     string                   `json:"model,omitempty"`
		Tags      []string                 `json:"tags"`
		Enrolled  bool                     `json:"enrolled"`
		Silent    bool                     `json:"silent"`
		LastSeen  *time.Time               `json:"last_seen,omitempty"`
		Revision  string                   `json:"revision,omitempty"`
		Statuses  Statuses                 `json:"statuses"`
		Problems  int                      `json:"problems"`
		Origin    *Origin                  `json:"origin,omitempty" doc:"Absent: it is edited here"`
		Fields    map[string]setting.Value `json:"fields,omitempty" doc:"The columns that were asked for"`
	}

	// DevicePage is all that is known of one device.
	DevicePage struct {
		Device     Device                   `json:"device"`
		Units      []string                 `json:"units" doc:"From the root to the home unit"`
		Users      []string                 `json:"users"`
		Facts      map[string]setting.Value `json:"facts"`
		Effective  files.SubjectAnswer      `json:"effective"`
		Deliveries []Delivery               `json:"deliveries"`
		CheckIns   []CheckIn                `json:"check_ins"`
		Applies    []AppliedPolicy          `json:"applies" doc:"Policies that apply, by id; those that do not stand with their reasons in effective"`
		Offers     []Offer                  `json:"offers" doc:"Policies that are offered on it, by id"`
		Tells      bool                     `json:"tells" doc:"It shows offers to its person and says itself what was taken. Otherwise an edit or a source says so"`
		Groups     []Membership             `json:"groups" doc:"That it is in, and why"`
		Exceptions []Exception              `json:"exceptions" doc:"That touch it, those that are over left out"`
		Baselines  []LaptopCompliance       `json:"baselines" doc:"That it is in, with what is not as they want it"`
		Drift      []DriftRecord            `json:"drift" doc:"What was altered on it, the newest first"`
		History    []SourceEvent            `json:"history" doc:"What sources did to it, the newest first"`
	}

	// AppliedPolicy is a policy that applies to a device.
	AppliedPolicy struct {
		ID       string `json:"id"`
		Title    string `json:"title,omitempty"`
		InEffect int    `json:"in_effect" doc:"Settings on which its entry is in effect"`
		Entries  int    `json:"entries"`
	}

	// Offer is a policy that is offered on a laptop.
	Offer struct {
		Policy string     `json:"policy"`
		Title  string     `json:"title,omitempty"`
		Taken  bool       `json:"taken" doc:"It counts: a person took it"`
		Since  *time.Time `json:"since,omitempty" doc:"When it was taken, where the laptop said so"`
	}

	// Delivery is a setting on its way to a laptop.
	Delivery struct {
		Setting    string         `json:"setting"`
		Wanted     *setting.Value `json:"wanted,omitempty" doc:"Absent: left to the laptop"`
		Reported   *setting.Value `json:"reported,omitempty"`
		Status     string         `json:"status" enum:"pending,applied,failed,unsupported,conflict,drifted"`
		Code       string         `json:"code,omitempty"`
		Reason     string         `json:"reason,omitempty"`
		WantedAt   *time.Time     `json:"wanted_at,omitempty"`
		ReportedAt *time.Time     `json:"reported_at,omitempty"`
	}

	// CheckIn is a session of a laptop.
	CheckIn struct {
		At       time.Time `json:"at"`
		Outcome  string    `json:"outcome"`
		Sent     int       `json:"sent"`
		Applied  int       `json:"applied"`
		Failed   int       `json:"failed"`
		Messages int       `json:"messages"`
		Revision string    `json:"revision"`
	}

	// EnrolmentCode lets one device enrol, once.
	EnrolmentCode struct {
		Device  string    `json:"device"`
		Code    string    `json:"code" doc:"Shown once"`
		Expires time.Time `json:"expires"`
	}
)

// Told says whether a laptop was told to check in.
type Told struct {
	Told bool `json:"told" doc:"It holds a connection and was told. Otherwise it checks in as usual"`
}
