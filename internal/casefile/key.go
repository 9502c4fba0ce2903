package casefile

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"passepartout/internal/core/redact"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/plainfile"
)

// KeySchema names the shape of a file with a key.
const KeySchema = "passepartout.key/1"

const mostKey = 16 << 20 // octets of such a file

type keyFile struct {
	Schema string        `json:"schema"`
	Key    string        `json:"key"` // 32 octets, hexadecimal
	Pairs  []redact.Pair `json:"pairs"`
}

// KeyOf is where the key of a case is kept unless another place is given: beside it.
func KeyOf(path string) string {
	return strings.TrimSuffix(strings.TrimSuffix(path, Unfinished), Ending) + ".key"
}

// ReadKey reads a key, and the stand-ins that were chosen by it.
func ReadKey(path string) (redact.Key, []redact.Pair, error) {
	var key redact.Key
	raw, err := plainfile.Read(path, mostKey)
	if err != nil {
		return key, nil, err
	}
	var f keyFile
	if err := json.Unmarshal(raw, &f); err != nil || f.Schema != KeySchema {
		return key, nil, fmt.Errorf("%s: it is no key: report --redact writes one", wiretext.Clean(filepath.Base(path)))
	}
	if got, err := hex.DecodeString(f.Key); err != nil || len(got) != len(key) {
		return key, nil, fmt.Errorf("%s: its key is damaged", wiretext.Clean(filepath.Base(path)))
	} else {
		copy(key[:], got)
	}
	return key, f.Pairs, nil
}

// NewOrKept reads the key that is kept at path, so that a second report of a case has the stand-ins of the first, or makes one.
func NewOrKept(path string) (redact.Key, []redact.Pair, error) {
	key, pairs, err := ReadKey(path)
	if errors.Is(err, fs.ErrNotExist) {
		_, _ = rand.Read(key[:]) // never fails
		return key, nil, nil
	}
	return key, pairs, err
}

// WriteKey keeps a key with the stand-ins that were chosen by it, for its owner alone. Those of other cases stay in it.
func WriteKey(path string, key redact.Key, before, pairs []redact.Pair) error {
	for _, p := range before {
		if !slices.Contains(pairs, p) {
			pairs = append(pairs, p)
		}
	}
	return plainfile.WritePrivate(path, func(w io.Writer) error {
		e := json.NewEncoder(w)
		e.SetEscapeHTML(false)
		e.SetIndent("", " ")
		return e.Encode(keyFile{KeySchema, hex.EncodeToString(key[:]), pairs})
	})
}
