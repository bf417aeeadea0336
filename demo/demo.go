// Package demo makes the people and laptops of Larkfell Hydrographic, a made-up company that
// surveys coasts and harbours. Its units, groups and policies are written by hand in demo/estate;
// this package makes the two tables beside them from a fixed seed, so that every run and picture is
// the same.
package demo

import (
	"embed"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
)

// Day is the day on which the demo estate is looked at: its exceptions are judged then.
const Day = "2026-11-23"

const (
	people  = 210
	laptops = 240
)

//go:embed estate
var shipped embed.FS

// Write puts the demo estate, in the estate format, into a folder, which must be empty.
func Write(folder string) error {
	estate, err := fs.Sub(shipped, "estate")
	if err != nil {
		return err
	}
	return os.CopyFS(folder, estate)
}

//go:embed rollouts.yaml offers.yaml baselines.yaml
var later embed.FS

// AddLater puts what the demo estate gets later into a folder that has it: rollout plans and approval rules, baselines,
// and what is offered. They are apart from it, so that the estate can be published before they count.
func AddLater(folder string) error { return os.CopyFS(folder, later) }

//go:embed escrow/service.txt
var escrowIdentity string

// EscrowIdentity is the identity by which the demo's service opens recovery keys. Policies of the demo estate name its
// public half. It is no secret, and protects nothing but the demo.
func EscrowIdentity() string {
	lines := strings.Split(strings.TrimSpace(escrowIdentity), "\n")
	return lines[len(lines)-1]
}

// CompanyRecipient is the public half of the identity that the made-up company keeps in its safe; demo/escrow/company.txt
// has the private half.
const CompanyRecipient = "age1u6l45lg6786k23csg83nru0znc33wdnsfl9ch0m90glah2d4uq0sxcx874"

// place is a unit with how many people work there and what they do.
type place struct {
	unit       string
	people     int
	department string
	titles     []string
	benches    int // laptops without an owner
}

var places = []place{
	{"slipway", 26, "workshop", []string{"boatwright", "engineer", "rigger", "crew lead"}, 0},
	{"harbour-office", 42, "office", []string{"accountant", "people partner", "counsel", "planner"}, 0},
	{"chart-room", 38, "data", []string{"cartographer", "data engineer", "analyst"}, 0},
	{"rv-petrel", 24, "survey", []string{"surveyor", "deckhand", "mate", "crew lead"}, 4},
	{"rv-dunlin", 22, "survey", []string{"surveyor", "deckhand", "mate", "crew lead"}, 4},
	{"rv-turnstone", 22, "survey", []string{"surveyor", "deckhand", "mate", "crew lead"}, 4},
	{"acoustics-lab", 20, "research", []string{"acoustician", "technician", "crew lead"}, 5},
	{"tide-lab", 16, "research", []string{"oceanographer", "technician"}, 5},
}

var (
	firstNames = strings.Fields(
		"Ines Tomas Mairi Jonas Aoife Kwame Leila Bram Sunniva Mateo Yuki Olga Piet Farah Callum Noor Elske Idris Wanja Ruth " +
			"Anders Zeynep " +
			"Hamish Beatriz Chidi Freya Goran Hana Ivo Jamila",
	)
	lastNames = strings.Fields(
		"Okafor Reyes Strand Haverkamp Lindqvist Moreau Petrov Achterberg Nakamura Duarte Sinclair Vasquez Tamm Osei Brandt " +
			"Kowalska Rahimi " +
			"Falk Mbeki Laurent Eriksen Costa",
	)
)

// Tables gives the text of people.csv and devices.csv.
func Tables() (peopleCSV, devicesCSV string) {
	r := rand.New(rand.NewPCG(1847, 2026))
	var p, d strings.Builder
	p.WriteString("id,name,mail,unit,department,title,employment\n")
	d.WriteString(
		"id,serial,owner,users,unit,os,os_version,edition,model,tags,ram_gb,security_chip,disk_encrypted,camera,battery,fingerprint_reader\n",
	)
	staff := makeStaff(r)
	for _, s := range staff {
		fmt.Fprintf(&p, "%s,%s,%s@larkfell.example,%s,%s,%s,%s\n", s.id, s.name, s.id, s.unit, s.department, s.title, s.employment)
	}
	for n, l := range makeLaptops(r, staff) {
		fmt.Fprintf(
			&d,
			"LT-%04d,ZX%d-%04d,%s,%s,%s,%s,%s,%s,%s,%s,%d,%s,%t,%s\n",
			n+1,
			3+n%4,
			1009+n*37%8999,
			l.owner,
			strings.Join(l.users, " "),
			l.unit,
			l.os,
			l.version,
			l.edition,
			l.model,
			strings.Join(l.tags, " "),
			l.ram,
			l.chip,
			l.encrypted,
			l.parts(),
		)
	}
	return p.String(), d.String()
}

type member struct {
	id, name, unit, department, title, employment string
}

func makeStaff(r *rand.Rand) []member {
	taken := map[string]bool{}
	var staff []member
	for _, at := range places {
		for i := range at.people {
			m := member{unit: at.unit, department: at.department, title: at.titles[i%len(at.titles)], employment: "staff"}
			if i > 5 && at.titles[i%len(at.titles)] == "crew lead" {
				m.title = at.titles[0] // a place has one or two leads
			}
			if at.unit == "harbour-office" && m.title == "accountant" {
				m.department = "finance"
			}
			if r.IntN(100) < 9 {
				m.employment = "contractor"
			}
			for m.id == "" || taken[m.id] {
				first, last := firstNames[r.IntN(len(firstNames))], lastNames[r.IntN(len(lastNames))]
				m.name, m.id = first+" "+last, strings.ToLower(first+"."+last)
			}
			taken[m.id] = true
			staff = append(staff, m)
		}
	}
	return staff
}

type laptop struct {
	owner                       string
	users, tags                 []string
	unit                        string
	os, version, edition, model string
	ram                         int
	chip                        string
	encrypted                   bool
}

var (
	versions = map[string][]string{
		"linux":   {"11.8", "12.2", "12.5", "12.5", "13.0"},
		"windows": {"10.1", "10.3", "10.4", "10.4"},
		"macos":   {"12.6", "13.4", "14.1", "14.1"},
	}
	models = []string{"Halyard 14", "Halyard 14", "Halyard 16", "Keelson 13", "Mizzen 15 rugged"}
)

func makeLaptops(r *rand.Rand, staff []member) []laptop {
	var out []laptop
	for _, m := range staff {
		out = append(out, makeLaptop(r, m.id, "", m.department))
	}
	for _, at := range places {
		for range at.benches {
			l := makeLaptop(r, "", at.unit, at.department)
			l.tags = []string{"bench"}
			if at.department == "survey" {
				l.tags = []string{"bridge", "shared"}
				for _, m := range staff {
					if m.unit == at.unit && len(l.users) < 6 && r.IntN(3) == 0 {
						l.users = append(l.users, m.id)
					}
				}
			}
			out = append(out, l)
		}
	}
	for i := 0; len(out) < laptops; i++ { // a second laptop for some
		m := staff[(i*29+11)%len(staff)]
		l := makeLaptop(r, m.id, "", m.department)
		l.tags = slices.Compact(append(l.tags, "spare"))
		out = append(out, l)
	}
	return out
}

func makeLaptop(r *rand.Rand, owner, unit, department string) laptop {
	l := laptop{owner: owner, unit: unit, os: "linux", edition: "standard", ram: 8 << r.IntN(3), chip: "2.0", encrypted: r.IntN(100) < 62}
	switch n := r.IntN(100); {
	case department == "office" || department == "finance":
		if n < 75 {
			l.os = "windows"
		} else if n < 90 {
			l.os = "macos"
		}
	case n < 22:
		l.os = "windows"
	case n < 34:
		l.os = "macos"
	}
	if department == "data" || department == "research" {
		l.edition = "workstation"
	}
	l.version = versions[l.os][r.IntN(len(versions[l.os]))]
	l.model = models[r.IntN(len(models))]
	if department == "survey" {
		l.model = models[2+r.IntN(3)]
		l.tags = append(l.tags, "field")
	}
	switch n := r.IntN(100); {
	case n < 7:
		l.chip = "none" // a laptop with no security chip; on the boats they were replaced by others with an early one
		if department == "survey" {
			l.chip = "1.2"
		}
	case n < 20:
		l.chip = "1.2"
	}
	return l
}

// parts gives the cells that say whether the laptop has a camera, a battery and a fingerprint
// reader. Of spare laptops nobody has looked.
func (l *laptop) parts() string {
	if slices.Contains(l.tags, "spare") {
		return ",,"
	}
	bench := slices.Contains(l.tags, "bench")
	reader := l.model == "Halyard 16" || l.model == "Keelson 13"
	return fmt.Sprintf("%t,%t,%t", !bench, !bench, reader)
}
