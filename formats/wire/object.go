package wire

import "slices"

// EstateObject is an object of the estate in the estate format, as JSON. It is kept as it came:
// package files reads it, and says what is wrong with it and where. The zero EstateObject is null.
type EstateObject []byte

// PolicyObject is an EstateObject that is a policy.
type PolicyObject []byte

// MarshalJSON gives the object as it is.
func (o EstateObject) MarshalJSON() ([]byte, error) { return orNull(o), nil }

// UnmarshalJSON takes the object as it is.
func (o *EstateObject) UnmarshalJSON(data []byte) error {
	*o = slices.Clone(data)
	return nil
}

// MarshalJSON gives the policy as it is.
func (o PolicyObject) MarshalJSON() ([]byte, error) { return orNull(o), nil }

// UnmarshalJSON takes the policy as it is.
func (o *PolicyObject) UnmarshalJSON(data []byte) error {
	*o = slices.Clone(data)
	return nil
}

func orNull(object []byte) []byte {
	if len(object) == 0 {
		return []byte("null")
	}
	return object
}
