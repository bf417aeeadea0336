package match

import "fmt"

// Level says how close to the laptop an entry comes from; a greater Level is closer. Levels below
// GroupLevel are depths in the units' tree, the root's being 0.
type Level int32

const (
	// NoLevel stands for a policy that does not apply.
	NoLevel Level = -1
	// GroupLevel is that of a group that includes the laptop or its owner. It is closer than every
	// unit.
	GroupLevel Level = 1 << 20
	// IndividualLevel is that of a target that names the laptop or the person. Nothing is closer.
	IndividualLevel Level = 1<<20 + 1
)

// String gives unit:0, unit:1 …, group or individual.
func (l Level) String() string {
	switch l {
	case GroupLevel:
		return "group"
	case IndividualLevel:
		return "individual"
	}
	return fmt.Sprintf("unit:%d", int32(l))
}
