package intern

// Status says what is decided for a setting.
type Status string

const (
	Set         Status = "set"
	Unset       Status = "unset"       // an exception leaves it to the laptop
	Conflict    Status = "conflict"    // no value: the laptop keeps what it has
	Unsupported Status = "unsupported" // the laptop does not have it
)
