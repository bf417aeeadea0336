// Package files is the estate folder: YAML, JSON and CSV on one side, core values on the other.
//
// Reading has three phases: text becomes a tree of nodes with places (yaml.go, jsontext.go,
// csv.go), the tree becomes core values (decode.go), and the core checks the whole
// (estate.Validate), whose paths are brought back to file, line and column. All faults of a folder
// come in one run; with any fault nothing is loaded. The same decoder reads the bodies of the HTTP
// API, one object at a time.
//
// Writing goes through the wire types (wire.go) to JSON or YAML, in one order, so that the same
// estate gives the same bytes.
package files
