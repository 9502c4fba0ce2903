package event

import (
	"bytes"
	"encoding/json"
	"strconv"
	"time"
)

// Parse reads a line of a log.
func Parse(line []byte) (e Event, err error) {
	if e, ok := parseProbed(line); ok {
		return e, nil
	}
	return e, json.Unmarshal(line, &e)
}

// parseProbed reads the end of a probe as a log has it, without the detours of what reads any JSON: of a day's watching there are half a
// million, and somebody waits for the file to be opened. What is written in any other way is read as all else.
func parseProbed(line []byte) (e Event, ok bool) {
	var p Probed
	rest := line
	text := func(before string) []byte {
		after, is := bytes.CutPrefix(rest, []byte(before))
		end := bytes.IndexByte(after, '"')
		if !is || end < 0 || bytes.IndexByte(after[:end], '\\') >= 0 {
			rest = nil
			return nil
		}
		rest = after[end:]
		return after[:end]
	}
	at := text(`{"at":"`)
	witness := text(`","event":"probed","data":{"Witness":"`)
	sent := text(`","Sent":"`)
	fate := text(`","Fate":"`)
	digits, is := bytes.CutPrefix(rest, []byte(`","RTT":`))
	digits, ends := bytes.CutSuffix(digits, []byte(`}}`))
	if !is || !ends || p.Fate.UnmarshalText(fate) != nil {
		return e, false
	}
	rtt, err := strconv.ParseInt(string(digits), 10, 64)
	if err != nil || e.At.UnmarshalText(at) != nil || p.Sent.UnmarshalText(sent) != nil {
		return e, false
	}
	p.Witness, p.RTT = string(witness), time.Duration(rtt)
	e.Body = p
	return e, true
}
