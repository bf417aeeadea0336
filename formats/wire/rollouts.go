// This file has the types of reviews and rollouts.

package wire

import (
	"encoding/json"
	"strconv"
	"time"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
)

type (
	// PublishRequest says how a change is published. Nothing: with the default rollout plan, where there is
	// one, else to all laptops at once.
	PublishRequest struct {
		Plan   string                `json:"plan,omitempty" doc:"Id of a rollout plan"`
		Own    *files.RolloutPlanDoc `json:"own,omitempty" doc:"A rollout plan for this rollout alone"`
		AtOnce bool                  `json:"at_once,omitempty" doc:"To all laptops at once, without waves"`
		Urgent string                `json:"urgent,omitempty" maxLength:"4000" doc:"Why it cannot wait for the approvals that are missing; needs the right publish-urgent"`
	}
	// Published is what became of a change that was published.
	Published struct {
		Publication
		Rollout  string       `json:"rollout,omitempty" doc:"Id of the rollout; none: all laptops get it at once"`
		WaitsFor []WaitingFor `json:"waits_for,omitempty" doc:"Rollouts that must be over before it starts"`
	}
	// WaitingFor is a rollout that another change waits for.
	WaitingFor struct {
		Rollout string   `json:"rollout"`
		Title   string   `json:"title"`
		Objects []string `json:"objects,omitempty" doc:"What both edit; none: the change names what the rollout brings"`
	}

	// Review is all that somebody needs who decides about a change.
	Review struct {
		Change    Change         `json:"change"`
		Reviewers []string       `json:"reviewers,omitempty" doc:"Who is asked; none: whoever may approve"`
		SentBy    string         `json:"sent_by,omitempty"`
		SentAt    *time.Time     `json:"sent_at,omitempty"`
		Facts     *Facts         `json:"facts,omitempty"`
		Digest    string         `json:"digest,omitempty" doc:"Of the edits and the impact; an approval names it"`
		Faults    problem.Faults `json:"faults,omitempty" doc:"What keeps it from being published"`
		Demands   []Demand       `json:"demands" doc:"Approval rules that are true of it"`
		Verdicts  []Verdict      `json:"verdicts"`
		Comments  []Comment      `json:"comments"`
		WaitsFor  []WaitingFor   `json:"waits_for,omitempty"`
		Meets     []Meeting      `json:"meets,omitempty" doc:"Rollouts under way that touch the same settings or laptops"`
		Approved  bool           `json:"approved" doc:"Nothing is missing for a publication"`
		WhyNot    string         `json:"why_not,omitempty" enum:"no-right,state,own-edit," doc:"Why the caller may not approve it"`
		Urgent    string         `json:"urgent,omitempty" doc:"Why it was published without the approvals that it needs"`
		ApproveBy *time.Time     `json:"approve_by,omitempty" doc:"Until when these approvals must follow"`
		Undoes    string         `json:"undoes,omitempty" doc:"The change that it takes back"`
	}
	// Facts is what approval rules know of a change.
	Facts struct {
		Laptops         int      `json:"laptops"`
		Share           float64  `json:"share" doc:"Percent of the estate"`
		Edits           int      `json:"edits"`
		Weaker          int      `json:"weaker"`
		ConflictsGained int      `json:"conflicts_gained"`
		ProblemsGained  int      `json:"problems_gained"`
		Irreversible    int      `json:"irreversible"`
		Restarts        int      `json:"restarts"`
		Prompts         int      `json:"prompts"`
		Lockouts        int      `json:"lockouts"`
		Kinds           []string `json:"kinds"`
		Areas           []string `json:"areas"`
		Settings        []string `json:"settings"`
		Policies        []string `json:"policies"`
		Units           []string `json:"units"`
		Groups          []string `json:"groups"`
	}
	// Demand is an approval rule that is true of a change, and how far it is met.
	Demand struct {
		Rule      string   `json:"rule"`
		Title     string   `json:"title,omitempty"`
		Approvals int      `json:"approvals"`
		From      string   `json:"from,omitempty"`
		Reason    string   `json:"reason,omitempty"`
		Fault     string   `json:"fault,omitempty" doc:"Why it could not be evaluated: it asks all the same"`
		By        []string `json:"by" doc:"Whose approvals count for it"`
		Met       bool     `json:"met"`
	}
	// Verdict is what somebody decided about a change.
	Verdict struct {
		By       string             `json:"by"`
		At       time.Time          `json:"at"`
		Verdict  string             `json:"verdict" enum:"approve,decline"`
		Note     string             `json:"note,omitempty"`
		Outdated bool               `json:"outdated,omitempty" doc:"The edits or the impact differ since: it does not count until it is confirmed"`
		Differs  []ImpactDifference `json:"differs,omitempty"`
	}
	// ImpactDifference is a line of the impact that is otherwise than when somebody looked.
	ImpactDifference struct {
		What string `json:"what"`
		Was  int    `json:"was" doc:"Laptops"`
		Is   int    `json:"is"`
	}
	// DecideRequest is what somebody decides about a change.
	DecideRequest struct {
		Verdict string `json:"verdict" enum:"approve,decline"`
		Note    string `json:"note,omitempty" maxLength:"10000"`
		Digest  string `json:"digest" maxLength:"64" doc:"Of what was looked at, as the review gives it"`
	}
	// SendForReview asks people to look at a change.
	SendForReview struct {
		Reviewers []string `json:"reviewers,omitempty" maxItems:"20" doc:"Accounts; none: whoever may approve"`
	}
	// Comment is what somebody says about a change.
	Comment struct {
		ID         int64      `json:"id"`
		By         string     `json:"by"`
		At         time.Time  `json:"at"`
		About      string     `json:"about,omitempty" doc:"kind/id of an edit, or settings/id; none: the change"`
		Text       string     `json:"text"`
		Blocking   bool       `json:"blocking,omitempty" doc:"Nothing is approved until it is resolved"`
		ResolvedBy string     `json:"resolved_by,omitempty"`
		ResolvedAt *time.Time `json:"resolved_at,omitempty"`
		MayResolve bool       `json:"may_resolve,omitempty" doc:"Whoever asks may resolve it"`
	}
	// NewComment is a comment to be made.
	NewComment struct {
		Text     string `json:"text" maxLength:"10000"`
		About    string `json:"about,omitempty" maxLength:"300"`
		Blocking bool   `json:"blocking,omitempty" doc:"Needs the right to approve"`
	}
	// Meeting is a rollout under way that touches what a change touches, too.
	Meeting struct {
		Rollout  string   `json:"rollout"`
		Title    string   `json:"title"`
		Progress string   `json:"progress"`
		Settings []string `json:"settings,omitempty" doc:"That both alter"`
		Laptops  int      `json:"laptops,omitempty" doc:"On which both alter something"`
		Objects  []string `json:"objects,omitempty" doc:"That both edit: the change waits for the rollout"`
	}
	// RuleTrial is a recent change, and whether an approval rule would have asked for approvals of it.
	RuleTrial struct {
		Change string `json:"change"`
		Title  string `json:"title"`
		State  string `json:"state"`
		Asks   bool   `json:"asks"`
		Fault  string `json:"fault,omitempty"`
		Facts  *Facts `json:"facts"`
	}

	// Rollout is a change on its way to laptops.
	Rollout struct {
		ID          string               `json:"id" doc:"Of the change"`
		Title       string               `json:"title"`
		By          string               `json:"by"`
		PublishedAt time.Time            `json:"published_at"`
		StartedAt   *time.Time           `json:"started_at,omitempty"`
		EndedAt     *time.Time           `json:"ended_at,omitempty"`
		Progress    string               `json:"progress" enum:"waiting,running,paused,stopped,finished,taking-back,taken-back"`
		Reason      string               `json:"reason,omitempty" enum:"failed,lost," doc:"Why it stopped by itself"`
		WaitsFor    []string             `json:"waits_for,omitempty" doc:"Rollouts that must be over before it starts"`
		Revision    int64                `json:"revision,omitempty" doc:"With which it became part of the live estate"`
		Plan        files.RolloutPlanDoc `json:"plan"`
		Waves       []RolloutWave        `json:"waves"`
		Counts      map[string]int       `json:"counts" doc:"Laptops by state"`
		Prediction  Prediction           `json:"prediction" doc:"How far laptops came to what was predicted before the change was published"`
		Laptops     int                  `json:"laptops"`
		Next        *time.Time           `json:"next,omitempty" doc:"When time alone brings something"`
		Ready       bool                 `json:"ready,omitempty" doc:"The next wave waits for a person"`
		GatePassed  bool                 `json:"gate_passed,omitempty" doc:"Enough laptops of the last open wave have taken it"`
		GateFrom    *time.Time           `json:"gate_from,omitempty" doc:"From when on that wave has been open for long enough"`
		StopsAt     *StopsAt             `json:"stops_at,omitempty"`
		Reasons     []FailureReason      `json:"reasons,omitempty" doc:"Of laptops that failed, most first"`
		Course      []CoursePoint        `json:"course,omitempty" doc:"How many laptops had taken it, and failed, over time"`
	}
	// RolloutWave is a wave with how far its laptops are.
	RolloutWave struct {
		files.WaveDoc
		OpenedAt    *time.Time     `json:"opened_at,omitempty"`
		Counts      map[string]int `json:"counts"`
		Laptops     int            `json:"laptops"`
		NeedsTaken  int            `json:"needs_taken,omitempty" doc:"Laptops that must have taken it before the next wave"`
		HalfWithin  int64          `json:"half_within,omitempty" doc:"Seconds within which half of its laptops usually check in"`
		MostWithin  int64          `json:"most_within,omitempty" doc:"The same of 95 of 100"`
		NoHabit     int            `json:"no_habit,omitempty" doc:"Laptops of which the usual interval is not known"`
		HalfTakenAt *time.Time     `json:"half_taken_at,omitempty" doc:"When half of its laptops had taken it"`
		MostTakenAt *time.Time     `json:"most_taken_at,omitempty"`
	}
	// StopsAt says how near a rollout is to stopping by itself.
	StopsAt struct {
		Failed     int `json:"failed" doc:"Failed laptops since the last resume"`
		FailedMost int `json:"failed_most" doc:"More of them stop it"`
		Lost       int `json:"lost"`
		LostMost   int `json:"lost_most"`
	}
	// FailureReason is a reason of laptops that failed.
	FailureReason struct {
		Reason  string `json:"reason"`
		Laptops int    `json:"laptops"`
	}
	// RolloutLaptop is a laptop of a rollout.
	RolloutLaptop struct {
		Device   string     `json:"device"`
		Owner    string     `json:"owner,omitempty"`
		Unit     string     `json:"unit,omitempty"`
		OS       string     `json:"os,omitempty"`
		Version  string     `json:"os_version,omitempty"`
		Wave     string     `json:"wave"`
		State    string     `json:"state" enum:"waiting,due,taken,failed,lost,silent,excused,returned"`
		Since    *time.Time `json:"since,omitempty"`
		Heard    *time.Time `json:"heard,omitempty"`
		Interval int64      `json:"interval,omitempty" doc:"Seconds between two check-ins, as they usually are"`
		Reason   string     `json:"reason,omitempty"`
	}
	// RolloutEvent is something that happened in a rollout.
	RolloutEvent struct {
		Seq     int64     `json:"seq"`
		At      time.Time `json:"at"`
		What    string    `json:"what" enum:"state,opened,laptop"`
		Device  string    `json:"device,omitempty"`
		Wave    string    `json:"wave,omitempty"`
		From    string    `json:"from,omitempty"`
		To      string    `json:"to,omitempty"`
		Laptops int       `json:"laptops,omitempty"`
		By      string    `json:"by,omitempty"`
		Reason  string    `json:"reason,omitempty"`
	}
	// RolloutAct is what somebody does with a rollout.
	RolloutAct struct {
		Act    string `json:"act" enum:"go,pause,resume,finish,take-back,excuse"`
		Device string `json:"device,omitempty" doc:"With excuse"`
		Note   string `json:"note,omitempty" maxLength:"10000" doc:"Why; needed with excuse"`
	}
	// Coming is a rollout that a laptop is in.
	Coming struct {
		Rollout  string          `json:"rollout"`
		Title    string          `json:"title"`
		Progress string          `json:"progress"`
		Wave     string          `json:"wave"`
		State    string          `json:"state"`
		Gets     bool            `json:"gets" doc:"It gets the change now"`
		Expected *time.Time      `json:"expected,omitempty" doc:"When it usually checks in next"`
		Settings []ComingSetting `json:"settings" doc:"That the change alters on it"`
	}
	// ComingSetting is a setting that a rollout alters on a laptop.
	ComingSetting struct {
		Setting string `json:"setting"`
		From    State  `json:"from" doc:"Without the change"`
		To      State  `json:"to" doc:"With it"`
	}

	// PlanTrial asks how a rollout would go by a plan.
	PlanTrial struct {
		Plan    files.RolloutPlanDoc `json:"plan"`
		Change  string               `json:"change,omitempty" doc:"Its laptops; none: all laptops of the estate"`
		Failing float64              `json:"failing,omitempty" minimum:"0" maximum:"100" doc:"Percent of laptops that refuse the change"`
	}
	// PlanOutcome is how a rollout would go.
	PlanOutcome struct {
		Waves    []PlanWave     `json:"waves"`
		Laptops  int            `json:"laptops"`
		NoHabit  int            `json:"no_habit" doc:"Laptops of which the usual interval is not known: an hour is taken"`
		Progress string         `json:"progress" enum:"running,finished,stopped"`
		Reason   string         `json:"reason,omitempty"`
		Started  time.Time      `json:"started"`
		Ended    time.Time      `json:"ended"`
		Points   []PlanPoint    `json:"points"`
		Faults   problem.Faults `json:"faults,omitempty" doc:"What keeps a rollout by it from starting"`
	}
	// PlanWave is a wave of a plan on this estate.
	PlanWave struct {
		ID        string      `json:"id"`
		Laptops   int         `json:"laptops"`
		Platforms []NameCount `json:"platforms"`
		Units     []NameCount `json:"units"`
		Opened    *time.Time  `json:"opened,omitempty"`
	}
	// NameCount counts laptops by something.
	NameCount struct {
		ID      string `json:"id"`
		Title   string `json:"title,omitempty"`
		Laptops int    `json:"laptops"`
	}
	// PlanPoint is how many laptops are how far at a moment.
	PlanPoint struct {
		At     time.Time `json:"at"`
		Taken  int       `json:"taken"`
		Failed int       `json:"failed"`
		Open   int       `json:"open" doc:"Laptops in open waves"`
	}
)

type (
	// Undone is what came of undoing a change.
	Undone struct {
		TakenBack bool           `json:"taken_back,omitempty" doc:"It was being rolled out: its rollout is taken back"`
		Change    string         `json:"change,omitempty" doc:"Else the change that turns it round"`
		Objects   []UndoneObject `json:"objects"`
	}
	// UndoneObject says how an object is undone.
	UndoneObject struct {
		Kind  string   `json:"kind"`
		ID    string   `json:"id"`
		Way   string   `json:"way" enum:"restored,retired,merged,unchanged,left"`
		Parts []string `json:"parts,omitempty" doc:"With merged and left: what was altered both by the change and since, and stays"`
		By    string   `json:"by,omitempty" doc:"With merged and left: who altered it last"`
	}
)

type (
	// CoursePoint is how many laptops had taken the change, and failed, at a moment.
	CoursePoint struct {
		At     time.Time `json:"at"`
		Taken  int       `json:"taken"`
		Failed int       `json:"failed"`
	}
	// ReviewWaiting is a change whose review waits for somebody.
	ReviewWaiting struct {
		Change string     `json:"change"`
		Title  string     `json:"title"`
		SentBy string     `json:"sent_by,omitempty"`
		SentAt *time.Time `json:"sent_at,omitempty"`
		For    string     `json:"for" enum:"approval,outdated,urgent,publish,other" doc:"approval: the caller may decide; outdated: the caller approved it and the impact differs since; urgent: approvals must follow; publish: it is approved and the caller may publish it; other: it waits for somebody else"`
	}
)

type (
	// AnnouncementChoices is what somebody wants to be told, and how.
	AnnouncementChoices struct {
		Mail    []string `json:"mail" doc:"Topics, by e-mail" maxItems:"20"`
		Webhook []string `json:"webhook" doc:"Topics, by webhook" maxItems:"20"`
		Hook    string   `json:"hook,omitempty" maxLength:"1000" doc:"Address of the webhook, at a host that the operator allows"`
	}
	// Announcements is what somebody wants to be told, and was told last.
	Announcements struct {
		AnnouncementChoices
		Topics    []string           `json:"topics" doc:"That there are"`
		Address   string             `json:"address,omitempty" doc:"Your e-mail address, as the estate has it"`
		SendsMail bool               `json:"sends_mail" doc:"The service has an SMTP server"`
		PublicKey string             `json:"public_key,omitempty" doc:"With which webhooks are verified: Ed25519, in base64"`
		Sent      []SentAnnouncement `json:"sent"`
	}
	// SentAnnouncement is what was to be sent to somebody.
	SentAnnouncement struct {
		Topic   string    `json:"topic"`
		Channel string    `json:"channel" enum:"mail,webhook"`
		Title   string    `json:"title"`
		Path    string    `json:"path"`
		At      time.Time `json:"at"`
		State   string    `json:"state" enum:"due,sent,failed"`
		Fault   string    `json:"fault,omitempty"`
	}
)

// Prediction compares what was predicted before something was published with what laptops report.
type Prediction struct {
	Judged   int         `json:"judged" doc:"Laptops of a rollout, or settings on all laptops, that were reported since"`
	CameTrue int         `json:"came_true" doc:"Of those, the ones that are as predicted"`
	Percent  json.Number `json:"percent" doc:"That came true; 100 where nothing was reported yet"`
}

// PredictionOf counts what came true and what did not.
func PredictionOf(came, not int) Prediction {
	p := Prediction{Judged: came + not, CameTrue: came, Percent: "100"}
	if p.Judged > 0 {
		// It is cut and not rounded, so that 100 means all.
		p.Percent = json.Number(strconv.FormatFloat(float64(1000*came/p.Judged)/10, 'f', -1, 64))
	}
	return p
}
