package report

import (
	"encoding/json"
	"io"
)

// writeJSON writes one of the contract's objects, indented.
func writeJSON(w io.Writer, object any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(object)
}
