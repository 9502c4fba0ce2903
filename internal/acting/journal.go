package acting

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/adrg/xdg"

	"passepartout/internal/core/change"
)

// Outcome is what has become of a change.
type Outcome string

// The outcomes of the contract.
const (
	Planned   Outcome = "planned"
	OnTrial   Outcome = "on-trial"
	Kept      Outcome = "kept"
	TakenBack Outcome = "taken-back"
	Failed    Outcome = "failed"
)

// JournalSchema names the shape of a line of the journal.
const JournalSchema = "passepartout.journal/1"

// Entry is one change. The journal has a line when it begins and one for each outcome, which repeats its number.
type Entry struct {
	Schema   string          `json:"schema"`
	ID       int             `json:"id"`
	At       time.Time       `json:"at"`
	Who      string          `json:"who,omitempty"` // the login
	Why      string          `json:"why,omitempty"` // what was asked for
	Outcome  Outcome         `json:"outcome"`
	Says     string          `json:"says,omitempty"` // why it failed, or what could not be taken back
	From     change.Settings `json:"from,omitzero"`
	To       change.Settings `json:"to,omitzero"`
	Steps    []change.Op     `json:"steps,omitempty"`
	Deadline time.Time       `json:"deadline,omitzero"` // of the trial
}

// Journal is the list of all changes, append-only, one for all who change this machine.
type Journal struct {
	path string
}

// OpenJournal gives the user's, in the state folder.
func OpenJournal() *Journal {
	return JournalAt(filepath.Join(xdg.StateHome, "passepartout", "changes.jsonl"))
}

// JournalAt gives the one in a file; with "" for a path, one that keeps nothing.
func JournalAt(path string) *Journal { return &Journal{path} }

// Path is its file.
func (j *Journal) Path() string { return j.path }

// Append adds a line, and returns when it is on the disk.
func (j *Journal) Append(e Entry) error {
	if j.path == "" {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(j.path), 0o700); err != nil {
		return fmt.Errorf("the journal: %w", err)
	}
	e.Schema = JournalSchema
	line, err := json.Marshal(e)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(j.path, os.O_RDWR|os.O_APPEND|os.O_CREATE, 0o600)
	if err != nil {
		return fmt.Errorf("the journal: %w", err)
	}
	line = append(line, '\n')
	if info, err := f.Stat(); err == nil && info.Size() > 0 { // a line that was cut short by a full disk stays one by itself
		var last [1]byte
		if _, err := f.ReadAt(last[:], info.Size()-1); err == nil && last[0] != '\n' {
			line = append([]byte{'\n'}, line...)
		}
	}
	_, err = f.Write(line)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("the journal: %w", err)
	}
	return nil
}

// mostLine is longer than any entry of ten thousand routes.
const mostLine = 16 << 20

// Read gives the changes, the oldest first, each with its last outcome. Lines that cannot be read are counted, and left where they are.
func (j *Journal) Read() (entries []Entry, damaged int, err error) {
	f, err := os.Open(j.path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, 0, nil
	}
	if err != nil {
		return nil, 0, fmt.Errorf("the journal: %w", err)
	}
	defer f.Close()
	at := map[int]int{}
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, mostLine)
	for lines.Scan() {
		var e Entry
		if json.Unmarshal(lines.Bytes(), &e) != nil || e.Schema != JournalSchema || e.ID <= 0 {
			damaged++
			continue
		}
		if i, known := at[e.ID]; known {
			if entries[i].Outcome, entries[i].Says = e.Outcome, e.Says; len(e.To.Links) > 0 { // what came of it
				entries[i].To = e.To
			}
			continue
		}
		at[e.ID] = len(entries)
		entries = append(entries, e)
	}
	if lines.Err() != nil {
		damaged++
	}
	return entries, damaged, nil
}

// Next is the number of the next change.
func (j *Journal) Next() (int, error) {
	entries, _, err := j.Read()
	next := 1
	for _, e := range entries {
		next = max(next, e.ID+1)
	}
	return next, err
}
